package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// SetNotice makes a notice of operators, or changes one. Edit is given the notice as it is.
func (o *Office) SetNotice(ctx context.Context, who Actor, name string, add bool, edit func(*keep.Notice) error) (keep.Notice, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	n, all, err := o.noticeNamed(ctx, name)
	switch {
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return n, err
	case err != nil && !add, err == nil && n.Account != "":
		return n, keep.NoSuch("notice", name)
	case err == nil && add:
		return n, errNameTaken
	case add && len(all) >= keep.MaxNotices:
		return n, &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d notices, as many as there may be: remove some first", len(all))}
	}
	n.Name = name
	if err := edit(&n); err != nil {
		return n, err
	}
	action := keep.NoticeSet
	if add {
		action = keep.NoticeAdd
	}
	return n, o.saveNotice(ctx, who, action, &n)
}

// noticeNamed finds a notice, and all of its kind.
func (o *Office) noticeNamed(ctx context.Context, name string) (n keep.Notice, all []keep.Notice, err error) {
	found, err := o.DB.Notices(ctx)
	if err != nil {
		return n, nil, err
	}
	err = records.ErrNotFound
	for _, one := range found {
		if one.Account == "" {
			all = append(all, one)
		}
		if one.Name == name {
			n, err = one, nil
		}
	}
	return n, all, err
}

func (o *Office) saveNotice(ctx context.Context, who Actor, action keep.Action, n *keep.Notice) error {
	if err := o.CheckNotice(ctx, n); err != nil {
		return err
	}
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if err := o.recorded(ctx, who, action, n.Name, string(text), func(ctx context.Context) error { return o.DB.SaveNotice(ctx, *n, time.Now()) }); err != nil {
		return err
	}
	if err := o.Teller.Arrange(ctx); err != nil {
		return err
	}
	o.Live.Expect()
	return nil
}

// DecideHeld lets an upload in that waits for its check, or refuses it.
func (o *Office) DecideHeld(who Actor, id string, answer keep.CheckAnswer, reason string) error {
	if answer != keep.CheckYes && answer != keep.CheckNo {
		return &keep.FieldError{Field: "answer", Say: "use yes or no"}
	}
	if len(reason) > maxReason {
		return &keep.FieldError{Field: "reason", Say: fmt.Sprintf("use at most %d bytes", maxReason)}
	}
	said := string(answer) + ", says the operator " + who.Operator
	if reason != "" {
		said += ": " + reason
	}
	return o.Live.DecideHeld(id, answer, said)
}

// CheckNotice refuses a notice that is wrong, names what there is not, or could never happen.
func (o *Office) CheckNotice(ctx context.Context, n *keep.Notice) error {
	if err := n.Check(); err != nil {
		return err
	}
	receivers, err := o.DB.Receivers(ctx)
	if err != nil {
		return err
	}
	for _, name := range n.Receivers {
		if !slices.ContainsFunc(receivers, func(r keep.Receiver) bool { return r.Name == name && r.Account == n.Account }) {
			return &keep.FieldError{Field: "receivers", Say: fmt.Sprintf("no receiver is named %s: receiver list shows the ones there are, receiver add makes one", name)}
		}
	}
	for _, name := range n.Groups {
		if _, err := o.DB.Group(ctx, name); err != nil {
			return fieldOf(err, "groups", "it would never happen: no group is named "+name)
		}
	}
	if n.Account != "" {
		return nil
	}
	var could []*keep.Effective
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	for i, pattern := range n.Accounts {
		known := false
		for _, a := range accounts {
			known = known || keep.Like(pattern, a.Name)
		}
		if !known {
			return &keep.FieldError{Field: "accounts", Say: fmt.Sprintf("it would never happen: no account fits %s", n.Accounts[i])}
		}
	}
	if len(n.Accounts)+len(n.Groups) == 0 {
		return nil
	}
	for _, a := range accounts {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		if (len(n.Accounts) == 0 || slices.ContainsFunc(n.Accounts, func(p string) bool { return keep.Like(p, a.Name) })) &&
			(len(n.Groups) == 0 || slices.ContainsFunc(n.Groups, func(g string) bool { return slices.Contains(a.Groups, g) })) {
			could = append(could, e)
		}
	}
	if len(n.Accounts) > 0 && len(could) == 0 {
		return &keep.FieldError{Field: "groups", Say: "it would never happen: no account is meant by both accounts and groups"}
	}
	if len(n.Protocols) > 0 && len(could) > 0 && !slices.ContainsFunc(could, func(e *keep.Effective) bool {
		return slices.ContainsFunc(n.Protocols, func(p keep.Protocol) bool { return e.MayUse(p) || p == keep.ByPass })
	}) {
		return &keep.FieldError{Field: "protocols", Say: "it would never happen: none of the accounts may use one of the protocols"}
	}
	return nil
}

// RemoveNotice forgets a notice of operators.
func (o *Office) RemoveNotice(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	n, _, err := o.noticeNamed(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && n.Account != "" {
		return keep.NoSuch("notice", name)
	}
	if err != nil {
		return err
	}
	return o.dropNotice(ctx, who, name)
}

func (o *Office) dropNotice(ctx context.Context, who Actor, name string) error {
	if err := o.recorded(ctx, who, keep.NoticeRemove, name, "", func(ctx context.Context) error { return o.DB.DropNotice(ctx, name) }); err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// Notice finds a notice of operators.
func (o *Office) Notice(ctx context.Context, name string) (keep.Notice, error) {
	n, _, err := o.noticeNamed(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && n.Account != "" {
		return n, keep.NoSuch("notice", name)
	}
	return n, err
}
