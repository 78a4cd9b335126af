package keep

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Settings are what a group gives its accounts and what an account may set for
// itself. A nil field is not set: the next that sets it decides.
type Settings struct {
	SignInBy         *Proofs       `json:"signInBy,omitempty"`
	SecondFactor     *SecondFactor `json:"secondFactor,omitempty"`
	FactorOn         *Protocols    `json:"factorOn,omitempty"`
	FactorBy         *FactorBy     `json:"factorBy,omitempty"`
	FactorRemember   *Seconds      `json:"factorRemember,omitempty"`
	Protocols        *Protocols    `json:"protocols,omitempty"`
	Encryption       *Encryption   `json:"encryption,omitempty"`
	Allow            *Networks     `json:"allow,omitempty"`
	Deny             *Networks     `json:"deny,omitempty"`
	ValidFrom        *Moment       `json:"validFrom,omitempty"`
	ValidUntil       *Moment       `json:"validUntil,omitempty"`
	MaxSessions      *Count        `json:"maxSessions,omitempty"`
	IdleTime         *Seconds      `json:"idleTime,omitempty"`
	MaxUpload        *Bytes        `json:"maxUpload,omitempty"`
	SpeedUp          *Bytes        `json:"speedUp,omitempty"`
	SpeedDown        *Bytes        `json:"speedDown,omitempty"`
	SessionSpeedUp   *Bytes        `json:"sessionSpeedUp,omitempty"`
	SessionSpeedDown *Bytes        `json:"sessionSpeedDown,omitempty"`
	QuotaBytes       *Bytes        `json:"quotaBytes,omitempty"`
	QuotaFiles       *Count        `json:"quotaFiles,omitempty"`
	BinTime          *Seconds      `json:"binTime,omitempty"`
	Passes           *PassKinds    `json:"passes,omitempty"`
	PassTime         *Seconds      `json:"passTime,omitempty"`
	Umask            *Mode         `json:"umask,omitempty"`
	Starters         *Folders      `json:"starters,omitempty"`
}

// Terms are the settings that are in force: every one has a value. The fields
// are those of [Settings].
type Terms struct {
	SignInBy         Proofs
	SecondFactor     SecondFactor
	FactorOn         Protocols  // over which the second factor is asked of who signs in with a password
	FactorBy         FactorBy   // what gives the code where the holder has set none up
	FactorRemember   Seconds    // a network is not asked again; 0: it is
	Protocols        Protocols  // it may sign in over
	Encryption       Encryption // over FTP, whatever the listener says; [EncryptionByListener] leaves it to that
	Allow            Networks   // it may sign in from
	Deny             Networks
	ValidFrom        Moment
	ValidUntil       Moment
	MaxSessions      Count
	IdleTime         Seconds // a session may do nothing
	MaxUpload        Bytes   // the largest file it may write
	SpeedUp          Bytes   // of all its sessions, bytes per second
	SpeedDown        Bytes
	SessionSpeedUp   Bytes // of each session
	SessionSpeedDown Bytes
	QuotaBytes       Bytes // its home may hold
	QuotaFiles       Count
	BinTime          Seconds   // what is deleted on the portal can be put back; 0: it can't
	Passes           PassKinds // its holder may make
	PassTime         Seconds   // the longest life of those
	Umask            Mode
	Starters         Folders // made in its tree when it signs in for the first time
}

// EncryptionByListener leaves it to the listener.
const EncryptionByListener Encryption = "listener"

// DefaultUmask leaves files to the service's own user and group.
const DefaultUmask Mode = 0o027

// Setting tells about one field of [Settings].
type Setting struct {
	Name  string // in JSON; the command line joins its words by hyphens
	Label string // in tables
	Help  string // of the command line; the word in backquotes is the value
	say   func(*Terms) string
}

const (
	sizeHelp  = " a `size` as in 500M, 2GiB or 10 GB; 0 is any"
	speedHelp = " bytes per second, a `size` as in 500K, 2MiB or 10 MB; 0 is any"
)

// AllSettings are the settings there are, in the order in which they are shown.
var AllSettings = []Setting{
	{"signInBy", "must show", "`what` it must show: either (a password or a key), password, key, or both (a key, then the password; SFTP only)",
		func(t *Terms) string { return t.SignInBy.say() }},
	{"secondFactor", "second factor", "`whether` a one-time code is asked for besides a password: optional (once its holder has set codes up on the portal), required (nobody signs in without)",
		func(t *Terms) string { return t.SecondFactor.say() }},
	{"factorOn", "second factor over", "`protocols` over which it is asked, as in portal,sftp; or all. Over FTP it is typed behind the password; WebDAV takes tokens only then",
		func(t *Terms) string { return sayList(t.FactorOn, "all") }},
	{"factorBy", "second factor by", "`what` gives the code of who has set none up: app (they must set one up on the portal), mail (to the account's address), or the name of a RADIUS source",
		func(t *Terms) string { return t.FactorBy.say() }},
	{"factorRemember", "second factor remembered", "how `long` a network from which the code was right is not asked for one again, as in 7d; 0 is never",
		func(t *Terms) string {
			if t.FactorRemember == 0 {
				return "asked each time"
			}
			return t.FactorRemember.text() + " for each network"
		}},
	{"protocols", "protocols", "`protocols` it may sign in over, as in sftp,ftps; or all, which is all but scp; or all,scp",
		func(t *Terms) string { return sayList(t.Protocols, "all") }},
	{"encryption", "encryption over FTP", "`whether` FTP without TLS is open to it: required (never), optional (its password may go in clear), listener (as the listener says)",
		func(t *Terms) string {
			return map[Encryption]string{EncryptionByListener: "as the listener says", EncryptionOptional: "optional: plain FTP allowed"}[t.Encryption] + map[Encryption]string{EncryptionRequired: "required"}[t.Encryption]
		}},
	{"allow", "networks allowed", "`networks` it may sign in from, as in 192.0.2.0/24,2001:db8::7; or everybody",
		func(t *Terms) string { return sayNetworks(t.Allow, "everybody") }},
	{"deny", "networks denied", "`networks` it may not sign in from, whatever is allowed; or nobody",
		func(t *Terms) string { return sayNetworks(t.Deny, "nobody") }},
	{"validFrom", "valid from", "the `day` or time its time begins, as in 2027-03-01, 2027-03-01T18:00 (UTC) or +7d; always takes it away", func(t *Terms) string { return sayMoment(t.ValidFrom, "always") }},
	{"validUntil", "valid until", "the `day` (its first moment in UTC) or time its time ends, and its sessions with it, as in 2027-03-01, 2027-03-01T18:00 or +90d; never takes it away",
		func(t *Terms) string { return sayMoment(t.ValidUntil, "never") }},
	{"maxSessions", "sessions at once", "how `many` sessions it may have at once; 0 is any number", func(t *Terms) string { return sayCount(t.MaxSessions) }},
	{"idleTime", "idle time", "how `long` a session may do nothing, as in 10m or 1d; 0 is the usual 15m",
		func(t *Terms) string {
			if t.IdleTime == 0 {
				return "the usual 15m"
			}
			return t.IdleTime.text()
		}},
	{"maxUpload", "largest upload", "the largest file it may write," + sizeHelp, func(t *Terms) string { return sayBytes(t.MaxUpload, "") }},
	{"speedUp", "speed up", "most it may send in all its sessions," + speedHelp, func(t *Terms) string { return sayBytes(t.SpeedUp, "/s") }},
	{"speedDown", "speed down", "most it may fetch in all its sessions," + speedHelp, func(t *Terms) string { return sayBytes(t.SpeedDown, "/s") }},
	{"sessionSpeedUp", "speed up, each session", "most that each session may send," + speedHelp, func(t *Terms) string { return sayBytes(t.SessionSpeedUp, "/s") }},
	{"sessionSpeedDown", "speed down, each session", "most that each session may fetch," + speedHelp, func(t *Terms) string { return sayBytes(t.SessionSpeedDown, "/s") }},
	{"quotaBytes", "quota of its home", "most bytes its home may hold," + sizeHelp, func(t *Terms) string { return sayBytes(t.QuotaBytes, "") }},
	{"quotaFiles", "files in its home", "how `many` files and folders its home may hold; 0 is any number", func(t *Terms) string { return sayCount(t.QuotaFiles) }},
	{"binTime", "bin on the portal", "how `long` what is deleted on the portal can be put back, as in 7d; it counts in the quota meanwhile; 0 is never",
		func(t *Terms) string {
			if t.BinTime == 0 {
				return "none"
			}
			return t.BinTime.text()
		}},
	{"passes", "passes", "`which` passes its holder may make: fetch (files can be fetched), drop (files can be left), both, none",
		func(t *Terms) string {
			if t.Passes == BothPasses {
				return "fetch and drop"
			}
			return string(t.Passes)
		}},
	{"passTime", "longest life of a pass", "how `long` a pass of its holder may live, as in 7d; 0 is 366d",
		func(t *Terms) string {
			if t.PassTime == 0 {
				return "366d"
			}
			return t.PassTime.text()
		}},
	{"umask", "umask", "the `mask` of mode bits that new files and folders don't get, as in 027",
		func(t *Terms) string { text, _ := t.Umask.MarshalText(); return string(text) }},
	{"starters", "starter folders", "`folders` of its tree that are made when it signs in for the first time, as in /incoming,/done",
		func(t *Terms) string { return sayList(t.Starters, "none") }},
}

// Flag is the setting's name on the command line.
func (s Setting) Flag() string {
	var flag strings.Builder
	for _, r := range s.Name {
		if r >= 'A' && r <= 'Z' {
			flag.WriteByte('-')
			r += 'a' - 'A'
		}
		flag.WriteRune(r)
	}
	return flag.String()
}

func sayList[T ~string](list []T, none string) string {
	if len(list) == 0 {
		return none
	}
	var said []string
	for _, one := range list {
		said = append(said, string(one))
	}
	return strings.Join(said, ", ")
}

func sayNetworks(n Networks, none string) string {
	if len(n) == 0 {
		return none
	}
	return strings.ReplaceAll(n.String(), ",", ", ")
}

func sayMoment(m Moment, none string) string {
	if m.IsZero() {
		return none
	}
	return m.String()
}

func sayCount(c Count) string {
	if c == 0 {
		return "any number"
	}
	return fmt.Sprint(int(c))
}

func sayBytes(b Bytes, per string) string {
	if b == 0 {
		return "any"
	}
	return SaySize(int64(b)) + per
}

// Put sets one setting from JSON: the form it has there, or its text; null takes
// it away. The error is a [*FieldError].
func (s *Settings) Put(name string, raw json.RawMessage) error {
	field, ok := s.field(name)
	if !ok {
		var names []string
		for _, one := range AllSettings {
			names = append(names, one.Name)
		}
		return &FieldError{name, "there is no such setting: use " + strings.Join(names, ", ")}
	}
	if string(raw) == "null" {
		field.SetZero()
		return nil
	}
	var text string
	if parse := map[string]func(string, string) (Networks, error){"allow": ParseAllowed, "deny": ParseDenied}[name]; parse != nil && json.Unmarshal(raw, &text) == nil {
		networks, err := parse(name, text)
		if err != nil {
			return err
		}
		if raw, err = json.Marshal(networks); err != nil {
			return err
		}
	}
	value := reflect.New(field.Type().Elem()) // a value of its own: the old one may be shared
	if err := json.Unmarshal(raw, value.Interface()); err != nil {
		return &FieldError{name, err.Error()}
	}
	field.Set(value)
	return nil
}

// Text is one setting as text that Put reads back, "" when it is not set.
func (s *Settings) Text(name string) string {
	field, ok := s.field(name)
	if !ok || field.IsNil() {
		return ""
	}
	if moment, ok := field.Interface().(*Moment); ok {
		return moment.text()
	}
	raw, err := json.Marshal(field.Interface())
	if err != nil {
		return ""
	}
	var word string
	var list []string
	switch value := field.Interface().(type) {
	case *Bytes:
		return value.text()
	case *Seconds:
		return value.text()
	}
	switch {
	case json.Unmarshal(raw, &word) == nil:
	case json.Unmarshal(raw, &list) == nil:
		word = strings.Join(list, ",")
	default:
		return string(raw)
	}
	if word == "" { // an empty list, which must not be read as not set
		return map[string]string{"allow": "everybody", "deny": "nobody", "protocols": "all", "factorOn": "all", "starters": "none"}[name]
	}
	return word
}

// PutText is Put for text; "" takes the setting away.
func (s *Settings) PutText(name, text string) error {
	if text == "" {
		return s.Put(name, json.RawMessage("null"))
	}
	raw, err := json.Marshal(text)
	if err != nil {
		return err
	}
	return s.Put(name, raw)
}

// PutAll is Put for each.
func (s *Settings) PutAll(values map[string]json.RawMessage) error {
	for name, raw := range values {
		if err := s.Put(name, raw); err != nil {
			return err
		}
	}
	return nil
}

// field finds the field of a name in JSON.
func (s *Settings) field(name string) (reflect.Value, bool) {
	at := slices.IndexFunc(AllSettings, func(one Setting) bool { return one.Name == name })
	if at < 0 {
		return reflect.Value{}, false
	}
	return s.fieldAt(at), true
}

// check reports what is wrong as a [*FieldError].
func (s *Settings) check() error {
	if s.SignInBy != nil {
		if err := s.SignInBy.check(); err != nil {
			return err
		}
	}
	if s.SecondFactor != nil && *s.SecondFactor != FactorOptional && *s.SecondFactor != FactorRequired {
		return &FieldError{"secondFactor", fmt.Sprintf("%q is not known: use optional or required", *s.SecondFactor)}
	}
	if s.FactorOn != nil {
		if err := s.FactorOn.Check(); err != nil {
			return &FieldError{"factorOn", err.Error()}
		}
	}
	if s.FactorBy != nil && *s.FactorBy != FactorByApp && *s.FactorBy != FactorByMail && CheckName("factorBy", string(*s.FactorBy)) != nil {
		return &FieldError{"factorBy", fmt.Sprintf("%q is not known: use app, mail or the name of a RADIUS source", *s.FactorBy)}
	}
	if s.FactorRemember != nil && (*s.FactorRemember < 0 || s.FactorRemember.Duration() > maxFactorRemember) {
		return &FieldError{"factorRemember", "use 0 to 90d"}
	}
	if s.Passes != nil && *s.Passes != NoPasses && !s.Passes.Has(FetchPass) && !s.Passes.Has(DropPass) {
		return &FieldError{"passes", fmt.Sprintf("%q is not known: use none, fetch, drop or both", *s.Passes)}
	}
	if s.Encryption != nil && *s.Encryption != EncryptionRequired && *s.Encryption != EncryptionOptional && *s.Encryption != EncryptionByListener {
		return &FieldError{"encryption", fmt.Sprintf("%q is not known: use required, optional or listener", *s.Encryption)}
	}
	if s.FactorOn != nil && slices.Contains(*s.FactorOn, SCP) {
		return &FieldError{"factorOn", "who comes by scp signs in as for sftp: name that"}
	}
	if s.Protocols != nil {
		if err := s.Protocols.Check(); err != nil {
			return &FieldError{"protocols", err.Error()}
		}
	}
	return nil
}

// SetValue is one setting that is in force, and who set it.
type SetValue struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Value any    `json:"value"`
	Say   string `json:"say"`
	Text  string `json:"text"` // as it can be given
	From  string `json:"from"` // "account", "group NAME", or "" where nobody set it
}

// inForce puts the settings of an account and its groups together: the first
// that sets a value decides it. It gives each value's origin, in the order of
// [AllSettings].
func inForce(own *Settings, groups []*Group) (t Terms, from []string) {
	t = Terms{SignInBy: DefaultProofs, SecondFactor: FactorOptional, FactorOn: Protocols{Portal}, FactorBy: FactorByApp, Passes: NoPasses, PassTime: DefaultPassTime, Protocols: Protocols{}, Encryption: EncryptionByListener, Umask: DefaultUmask, Starters: Folders{}}
	into := reflect.ValueOf(&t).Elem()
	from = make([]string, len(AllSettings))
	for i := range AllSettings {
		set := reflect.ValueOf(own).Elem().Field(i)
		if !set.IsNil() {
			from[i] = "account"
		}
		for _, g := range groups {
			if !set.IsNil() {
				break
			}
			if set = reflect.ValueOf(&g.Settings).Elem().Field(i); !set.IsNil() {
				from[i] = "group " + g.Name
			}
		}
		if !set.IsNil() {
			into.Field(i).Set(set.Elem())
		}
	}
	return t, from
}

// values are the settings with where each comes from.
func (t *Terms) values(from []string) []SetValue {
	all := make([]SetValue, len(AllSettings))
	for i, s := range AllSettings {
		value := reflect.ValueOf(t).Elem().Field(i)
		var alone Settings
		alone.fieldAt(i).Set(value.Addr())
		all[i] = SetValue{Name: s.Name, Label: s.Label, Value: value.Interface(), Say: s.say(t), Text: alone.Text(s.Name), From: from[i]}
	}
	return all
}

func (s *Settings) fieldAt(i int) reflect.Value { return reflect.ValueOf(s).Elem().Field(i) }
