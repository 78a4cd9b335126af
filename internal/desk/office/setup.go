package office

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"urbankeep/internal/desk/checkup"
	"urbankeep/internal/keep"
)

// SetupState is how far a step of the set-up is.
type SetupState string

// The states.
const (
	StepOpen    SetupState = "open"
	StepDone    SetupState = "done"
	StepSkipped SetupState = "skipped"
)

// SetupStep is one step from an empty data folder to somebody's first upload.
type SetupStep struct {
	Step  string // a fixed word
	Title string
	Why   string // why it matters
	State SetupState
	Says  string           // what is so now
	Check checkup.Findings // what a check-up finds of it now
}

const setupSetting = "setup"

type step struct {
	step, title, why string
	checks           []string
}

// steps are the steps, in the order in which a new administrator takes them, with what a
// check-up looks at for each.
var steps = []step{
	{"operator", "First operator", "Whoever owns the service signs in to the console under a name of their own, so that the audit trail can say who changed what.", []string{"operator"}},
	{"name", "What the service is called", "The name stands on hand-over sheets, so that people know what they connect to.", nil},
	{"listeners", "Protocols and addresses", "Each listener is one protocol on one address. What nobody needs should be stopped: what does not listen can't be attacked.", []string{"listener", "privilege", "plain-ftp"}},
	{"host", "The address clients use", "Behind a router or a name in the DNS, the service can't know where clients come to. It stands on hand-over sheets and is tried by checkup.", []string{"host", "outside"}},
	{"passive", "Passive ports", "FTP moves files over connections of their own. Their ports must be open and forwarded, else sign-in works and listings hang.", []string{"passive"}},
	{"certificate", "Certificate", "By it FTP clients know that it is really this service. One that they don't trust teaches people to click warnings away.", []string{"certificate"}},
	{"host-keys", "Host keys", "By them SSH clients know the service. Note or publish their fingerprints now; a later change looks like an attack.", []string{"host-key"}},
	{"store", "First store", "A store is a folder of this machine in which files live. On a disk of its own it can't fill up the system's.", []string{"store"}},
	{"group", "First group", "What accounts have in common is set once, in a group, and stays alike.", nil},
	{"account", "First account", "An account is a person or a machine that moves files. Its home is always explicit, and nobody can leave it.", []string{"account", "key"}},
	{"handover", "Hand-over sheet", "It tells whoever will connect where, how, and by which fingerprints the service is known.", nil},
	{"browsers", "People with a browser", "Who has no transfer client comes by the portal, by links and by WebDAV, over HTTPS. The console stays apart: whoever administers the service need not stand where everybody comes in.", []string{"listener"}},
}

// marks are what an operator said of the steps.
func (o *Office) marks(ctx context.Context) (said map[string]SetupState, err error) {
	said = map[string]SetupState{}
	text, err := o.DB.Setting(ctx, setupSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &said)
	}
	return said, err
}

// EveryStep asks for a check-up of all steps.
const EveryStep = "all"

// Setup is how far the set-up is. Check names the step of which a check-up is to be made,
// [EveryStep] or, because that takes its time, none.
func (o *Office) Setup(ctx context.Context, by keep.Role, check string) ([]SetupStep, error) {
	said, err := o.marks(ctx)
	if err != nil {
		return nil, err
	}
	now, err := o.standing(ctx)
	if err != nil {
		return nil, err
	}
	var found checkup.Findings
	if check != "" {
		if found, err = o.Checkup(ctx, by); err != nil {
			return nil, err
		}
	}
	all := make([]SetupStep, len(steps))
	for i, s := range steps {
		one := SetupStep{Step: s.step, Title: s.title, Why: s.why, State: StepOpen, Says: now[s.step].says, Check: checkup.Findings{}}
		switch {
		case now[s.step].done:
			one.State = StepDone
		case said[s.step] != "":
			one.State = said[s.step]
		}
		for _, f := range found {
			if slices.Contains(s.checks, f.Check) && (check == EveryStep || check == s.step) {
				one.Check = append(one.Check, f)
			}
		}
		all[i] = one
	}
	return all, nil
}

// stand is what is so of a step, and whether that alone says that it was taken.
type stand struct {
	says string
	done bool
}

func (o *Office) standing(ctx context.Context) (map[string]stand, error) {
	operators, err := o.DB.Operators(ctx)
	if err != nil {
		return nil, err
	}
	who, err := o.Identity(ctx)
	if err != nil {
		return nil, err
	}
	posts, err := o.posts(ctx)
	if err != nil {
		return nil, err
	}
	stores, err := o.DB.Stores(ctx)
	if err != nil {
		return nil, err
	}
	groups, err := o.DB.Groups(ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return nil, err
	}
	var listen, passive, keys, lie, browsers []string
	for _, p := range posts {
		if p.Stopped {
			listen = append(listen, p.Name+" stopped")
			continue
		}
		listen = append(listen, p.Name+" on "+p.At)
		if p.Serves(keep.PortalFace) && p.Encryption != keep.EncryptionOff {
			browsers = append(browsers, p.Name+" on "+p.At)
		}
		if p.Protocol.IsFTP() {
			passive = append(passive, fmt.Sprintf("%s %d-%d", p.Name, p.PassiveLow, p.PassiveHigh))
		}
	}
	for _, k := range o.HostKeys.Keys() {
		if k.State == "in-use" {
			keys = append(keys, k.Type()+" "+k.Fingerprint())
		}
	}
	for _, s := range stores {
		lie = append(lie, s.Name+" in "+s.Folder)
	}
	c := o.Certificates.Main().Facts()
	certificate := "of " + c.Issuer + ", until " + c.Until.Format("2006-01-02")
	if c.SelfSigned {
		certificate = "self-signed, until " + c.Until.Format("2006-01-02")
	}
	return map[string]stand{
		"operator":    {keep.SayMany(len(operators), "operator"), len(operators) > 0},
		"name":        {who.Name, who.Name != ""},
		"listeners":   {strings.Join(listen, "; "), false},
		"host":        {who.Host, who.Host != ""},
		"passive":     {strings.Join(passive, "; "), false},
		"certificate": {certificate, !c.SelfSigned},
		"browsers":    {strings.Join(browsers, "; "), len(browsers) > 0},
		"host-keys":   {strings.Join(keys, "; "), false},
		"store":       {strings.Join(lie, "; "), false},
		"group":       {keep.SayMany(len(groups), "group"), len(groups) > 0},
		"account":     {keep.SayMany(len(accounts), "account"), len(accounts) > 0},
		"handover":    {"", false},
	}, nil
}

// MarkSetup notes that a step was taken as it is, skipped, or is to be taken yet.
func (o *Office) MarkSetup(ctx context.Context, name string, state SetupState) error {
	if !slices.ContainsFunc(steps, func(s step) bool { return s.step == name }) {
		return keep.Refuse(keep.NotFound, "the set-up has no such step")
	}
	if state != StepOpen && state != StepDone && state != StepSkipped {
		return &keep.FieldError{Field: "state", Say: "use open, done or skipped"}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	said, err := o.marks(ctx)
	if err != nil {
		return err
	}
	said[name] = state
	text, err := json.Marshal(said)
	if err != nil {
		return err
	}
	return o.DB.SaveSetting(ctx, setupSetting, string(text))
}
