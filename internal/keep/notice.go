package keep

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

const (
	minExpectedWithin  = time.Hour
	usualWithin        = Seconds(24 * time.Hour / time.Second)
	maxNoticePatterns  = 100
	maxNotes           = 1000
	maxNoticeReceivers = 20
	// MaxNotices bounds the notices of operators together, MaxOwnNotices those of one holder.
	MaxNotices, MaxOwnNotices = 500, 50
)

// Expected is an upload, or a download, that is to come.
type Expected struct {
	Fetch  bool    `json:"fetch,omitempty"`  // it is a download
	By     string  `json:"by"`               // time of the day, "06:30"
	Days   string  `json:"days,omitempty"`   // of the week: "mon-fri"; "": every day
	Zone   string  `json:"zone,omitempty"`   // in which both are meant, as in Europe/Oslo; "": UTC
	Within Seconds `json:"within,omitempty"` // how long before it may have come; 0: a day
}

// Notice is "when this happens, tell them".
type Notice struct {
	Name      string    `json:"name"`
	Account   string    `json:"account,omitempty"` // of the holder whose own it is; "": of operators
	Note      string    `json:"note,omitempty"`
	Off       bool      `json:"off,omitempty"`
	Events    []Event   `json:"events"`
	Accounts  []string  `json:"accounts,omitempty"`  // patterns of names, as in gauge-*; none: all
	Groups    []string  `json:"groups,omitempty"`    // none: all
	Networks  Networks  `json:"networks,omitempty"`  // none: all
	Protocols Protocols `json:"protocols,omitempty"` // none: all
	Paths     []string  `json:"paths,omitempty"`     // see [PathPattern]; none: all
	MinSize   Bytes     `json:"minSize,omitempty"`
	MaxSize   Bytes     `json:"maxSize,omitempty"` // 0: any
	Outcomes  []Outcome `json:"outcomes,omitempty"`
	Window    *Window   `json:"window,omitempty"`
	Expect    *Expected `json:"expect,omitempty"`
	Receivers []string  `json:"receivers"`
	Self      bool      `json:"self,omitempty"` // of a holder: also what is done with the account itself
}

// Check reports what is wrong as a [*FieldError], such as that it could never happen.
func (n *Notice) Check() error {
	if err := CheckName("name", n.Name); n.Account == "" && err != nil {
		return err
	}
	if len(n.Note) > maxNotes || !utf8.ValidString(n.Note) {
		return &FieldError{"note", fmt.Sprintf("use at most %d bytes of UTF-8", maxNotes)}
	}
	if len(n.Events) == 0 {
		return &FieldError{"events", "say what is to happen, as in upload: notice events lists what there is"}
	}
	if len(n.Receivers) == 0 {
		return &FieldError{"receivers", "say who is to be told: receiver list shows the ones there are, receiver add makes one"}
	}
	if len(n.Receivers) > maxNoticeReceivers {
		return &FieldError{"receivers", fmt.Sprintf("a notice has %d receivers at the most", maxNoticeReceivers)}
	}
	files, people, accounts, onlyOver := false, false, false, true
	slices.Sort(n.Events)
	n.Events = slices.Compact(n.Events)
	for _, e := range n.Events {
		f := FactsOf(e)
		if f == nil {
			return &FieldError{"events", fmt.Sprintf("there is no event %q: notice events lists what there is", e)}
		}
		files, people, accounts = files || f.Files, people || f.People, accounts || f.People || f.Account
		onlyOver = onlyOver && e == EventTroubleOver
	}
	never := func(field, what string) error {
		return &FieldError{field, "it would never happen: none of the events has " + what}
	}
	switch {
	case onlyOver:
		return &FieldError{"events", "it would never happen: name the troubles too whose end is to be told"}
	case (len(n.Paths) > 0 || n.MinSize > 0 || n.MaxSize > 0) && !files && !slices.Contains(n.Events, EventUploadNotCome):
		return never("paths", "paths and sizes")
	case len(n.Protocols) > 0 && !people:
		return never("protocols", "a protocol")
	case len(n.Networks) > 0 && !people:
		return never("networks", "an address")
	case len(n.Outcomes) > 0 && !files:
		return never("outcomes", "an outcome that could be another")
	case len(n.Accounts)+len(n.Groups) > 0 && !accounts:
		return never("accounts", "an account")
	case n.MaxSize > 0 && n.MinSize > n.MaxSize:
		return &FieldError{"minSize", "it would never happen: the least size is above the largest"}
	}
	if err := n.checkFilters(); err != nil {
		return err
	}
	return n.checkExpected()
}

func (n *Notice) checkFilters() error {
	if len(n.Accounts)+len(n.Groups)+len(n.Paths) > maxNoticePatterns {
		return &FieldError{"paths", fmt.Sprintf("a notice has %d patterns at the most", maxNoticePatterns)}
	}
	for _, pattern := range n.Accounts {
		if pattern == "" || CheckPathName(pattern) != nil || strings.ContainsAny(pattern, "/,; ") {
			return &FieldError{"accounts", fmt.Sprintf("%q is no pattern of accounts: use a name, or letters with * and ?, as in gauge-*", pattern)}
		}
	}
	for i, text := range n.Paths {
		clean, err := CleanPathPattern(text)
		if err != nil {
			return &FieldError{"paths", err.Error()}
		}
		n.Paths[i] = clean
	}
	for _, o := range n.Outcomes {
		if err := CheckWord("outcomes", string(o), Outcomes); err != nil {
			return err
		}
		if o == Interrupted && !slices.Contains(n.Events, EventCutOff) {
			return &FieldError{"outcomes", "a transfer that stopped in the middle is the event cut-off"}
		}
	}
	if n.MinSize < 0 || n.MaxSize < 0 {
		return &FieldError{"minSize", "use 0 or more"}
	}
	if err := n.Protocols.Check(); err != nil {
		return &FieldError{"protocols", err.Error()}
	}
	if n.Window != nil {
		if *n.Window == (Window{}) {
			n.Window = nil
		} else if _, err := n.Window.prepare(); err != nil {
			return &FieldError{"window", err.Error()}
		}
	}
	return nil
}

func (n *Notice) checkExpected() error {
	wants := slices.Contains(n.Events, EventUploadNotCome)
	switch {
	case !wants && n.Expect != nil:
		return &FieldError{"expect", "that is for the event not-come"}
	case !wants:
		return nil
	case n.Expect == nil || n.Expect.By == "":
		return &FieldError{"expect", "say by when the upload is to come, as in 06:30"}
	}
	if n.Expect.Within == 0 {
		n.Expect.Within = usualWithin
	}
	if d := n.Expect.Within.Duration(); d < minExpectedWithin || d > 31*24*time.Hour {
		return &FieldError{"expect", "it may have come within 1h to 31d before"}
	}
	for _, name := range n.Accounts {
		if strings.ContainsAny(name, "*?") {
			return &FieldError{"accounts", "name the accounts whose upload is expected, without * and ?"}
		}
	}
	if _, err := n.Expect.times(); err != nil {
		return &FieldError{"expect", err.Error()}
	}
	return nil
}

// times prepares the days and the time of the day: low is the minute.
func (e *Expected) times() (*times, error) {
	if _, ok := minuteOf(e.By); !ok || e.By == "24:00" {
		return nil, fmt.Errorf("%q is no time of the day: use the form 06:30", e.By)
	}
	return (&Window{Days: e.Days, Zone: e.Zone, Hours: e.By + "-24:00"}).prepare()
}

// Last is the newest moment, not after now, by which the upload had to come; zero when there was none in the last week.
func (e *Expected) Last(now time.Time) time.Time {
	t, err := e.times()
	if err != nil {
		return time.Time{}
	}
	for back := range 8 {
		day := now.In(t.zone).AddDate(0, 0, -back)
		due := time.Date(day.Year(), day.Month(), day.Day(), t.low/60, t.low%60, 0, 0, t.zone)
		if !due.After(now) && t.days[due.Weekday()] {
			return due.UTC()
		}
	}
	return time.Time{}
}

// Matcher is a notice prepared for many records.
type Matcher struct {
	*Notice
	actions map[Action]bool
	events  map[Event]bool
	paths   []PathPattern
	window  *times
}

// Matcher prepares a notice that has been checked.
func (n *Notice) Matcher() (*Matcher, error) {
	m := &Matcher{Notice: n, actions: map[Action]bool{}, events: map[Event]bool{}}
	for _, a := range ActionsOf(n.Events) {
		m.actions[a] = true
	}
	for _, e := range n.Events {
		m.events[e] = true
	}
	for _, text := range n.Paths {
		p, err := ParsePathPattern(text)
		if err != nil {
			return nil, err
		}
		m.paths = append(m.paths, p)
	}
	if n.Window != nil {
		var err error
		if m.window, err = n.Window.prepare(); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Heeds reports whether records of an action may be what the notice is about.
func (m *Matcher) Heeds(a Action) bool { return !m.Off && m.actions[a] }

// Matches reports whether the notice is to tell of a record, whose event that is. A holder is told of what they see, wherever
// it came from.
func (m *Matcher) Matches(r *AuditRecord, e Event, over bool, sight Sight) bool {
	if m.Off || !m.events[e] && !(e == EventUpload && m.events[EventOverwrite] && r.Replaced) || over && !m.events[EventTroubleOver] {
		return false
	}
	f := FactsOf(e)
	if f == nil {
		return false
	}
	if e == EventUploadNotCome && r.Target != m.Name { // it is of one notice
		return false
	}
	who := r.Account
	if r.Action == PassEnd && who == "" { // an operator ended it
		who = r.Holder
	}
	if m.Account != "" && f.Files && (who != m.Account || r.Protocol != ByPass && !m.Self) {
		if who == m.Account {
			return false
		}
		mine := *r
		if mine.Path = sight.SeenBy(m.Account, r); mine.Path == "" {
			return false
		}
		r = &mine
	} else if m.Account != "" && who != m.Account {
		return false
	}
	if f.Files && e != EventCutOff && e != EventCheckRefused {
		if wanted := m.Outcomes; len(wanted) == 0 && r.Outcome != Done || len(wanted) > 0 && !slices.Contains(wanted, r.Outcome) {
			return false
		}
	}
	if f.Files && !m.fits(r) && !(e == EventRename && m.OnPath(r.Target)) || f.People && !m.from(r) || m.window != nil && !m.window.open(r.At) {
		return false
	}
	if !f.People && !f.Account {
		return true
	}
	return (len(m.Accounts) == 0 || likeAny(m.Accounts, who)) &&
		(len(m.Groups) == 0 || slices.ContainsFunc(sight.GroupsOf(who), func(g string) bool { return slices.Contains(m.Groups, g) }))
}

// fits reports whether paths and sizes are as wanted, from whether protocol and network are.
func (m *Matcher) fits(r *AuditRecord) bool {
	size := r.Offset + r.Bytes
	return size >= int64(m.MinSize) && (m.MaxSize == 0 || size <= int64(m.MaxSize)) && m.OnPath(r.Path)
}

func (m *Matcher) from(r *AuditRecord) bool {
	return (len(m.Protocols) == 0 || slices.Contains(m.Protocols, r.Protocol)) && (len(m.Networks) == 0 || m.Networks.Has(r.Address))
}

// Brings reports whether a record of an account is what a notice expects.
func (m *Matcher) Brings(r *AuditRecord) bool {
	came := r.Arrived()
	if m.Expect.Fetch {
		came = r.Action == Downloading && r.Outcome == Done
	}
	return came && !r.Rehearsal && m.fits(r) && m.from(r)
}

// Expected is what is expected, in a word, and the actions of its records.
func (m *Matcher) Expected() (word string, actions []Action) {
	if m.Expect.Fetch {
		return "download", []Action{Downloading}
	}
	return "upload", []Action{Uploading, Checking}
}

// OnPath reports whether one of the notice's paths is meant; true when there are none.
func (m *Matcher) OnPath(at string) bool {
	return len(m.paths) == 0 || slices.ContainsFunc(m.paths, func(p PathPattern) bool { return p.Matches(at) })
}

// EventList names the events.
func (n *Notice) EventList() string {
	words := make([]string, len(n.Events))
	for i, e := range n.Events {
		words[i] = string(e)
	}
	return strings.Join(words, ", ")
}

// Filters says to what the notice is narrowed, "" for nothing.
func (n *Notice) Filters() string {
	var said []string
	add := func(word string, list []string) {
		if len(list) > 0 {
			said = append(said, word+strings.Join(list, " "))
		}
	}
	add("", n.Accounts)
	add("groups ", n.Groups)
	add("", n.Paths)
	if len(n.Networks) > 0 {
		said = append(said, "from "+n.Networks.String())
	}
	if len(n.Protocols) > 0 {
		said = append(said, "over "+sayList(n.Protocols, ""))
	}
	if n.MinSize > 0 {
		said = append(said, "at least "+SaySize(int64(n.MinSize)))
	}
	if n.MaxSize > 0 {
		said = append(said, "at most "+SaySize(int64(n.MaxSize)))
	}
	for _, o := range n.Outcomes {
		said = append(said, string(o))
	}
	if n.Window != nil {
		said = append(said, n.Window.String())
	}
	if e := n.Expect; e != nil {
		zone := e.Zone
		if zone == "" {
			zone = "UTC"
		}
		said = append(said, strings.Join(strings.Fields(map[bool]string{true: "fetched "}[e.Fetch]+"by "+e.By+" "+zone+" "+e.Days), " "))
	}
	return strings.Join(said, ", ")
}
