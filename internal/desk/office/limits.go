package office

import (
	"context"
	"encoding/json"

	"urbankeep/internal/keep"
)

const limitsSetting = "limits"

// Limits are what the service puts up with from everybody together.
func (o *Office) Limits(ctx context.Context) (l keep.Limits, err error) {
	l = o.Usual
	text, err := o.DB.Setting(ctx, limitsSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &l)
	}
	return l, err
}

// SetLimits changes the limits, at once and for everybody.
func (o *Office) SetLimits(ctx context.Context, who Actor, edit func(*keep.Limits) error) (keep.Limits, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Limits(ctx)
	if err != nil {
		return before, err
	}
	l := before
	if err := edit(&l); err != nil {
		return before, err
	}
	if err := l.Check(); err != nil {
		return before, err
	}
	text, err := json.Marshal(l)
	if err != nil {
		return before, err
	}
	err = o.changed(ctx, who, keep.LimitsSet, limits, "", before, l, func(ctx context.Context) error { return o.DB.SaveSetting(ctx, limitsSetting, string(text)) })
	if err == nil {
		o.Guard.Limit(l)
	}
	return l, err
}
