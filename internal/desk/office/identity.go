package office

import (
	"context"
	"encoding/json"

	"urbankeep/internal/keep"
)

const identitySetting = "identity"

// Identity is how the service presents itself.
func (o *Office) Identity(ctx context.Context) (i keep.Identity, err error) {
	text, err := o.DB.Setting(ctx, identitySetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &i)
	}
	return i, err
}

// SetIdentity says what the service is called and where clients reach it.
func (o *Office) SetIdentity(ctx context.Context, who Actor, i keep.Identity) error {
	if err := i.Check(); err != nil {
		return err
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Identity(ctx)
	if err != nil {
		return err
	}
	text, err := json.Marshal(i)
	if err != nil {
		return err
	}
	return o.changed(ctx, who, keep.ServiceSet, identity, "", before, i, func(ctx context.Context) error { return o.DB.SaveSetting(ctx, identitySetting, string(text)) })
}
