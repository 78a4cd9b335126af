package office

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/records"
)

// The roster is all accounts as a table (RFC 4180), one a line: to be looked at or
// changed in a spreadsheet, and read back. It holds no secret.

// rosterColumns are those besides one for each setting. Mounts and grants are a
// line each in their cell.
var rosterColumns = []string{"account", "state", "source", "password", "must-change", "groups", "note", "mail", "mounts", "grants"}

// hashColumn is one that is read only: password hashes that accounts bring from elsewhere.
const hashColumn = "password-hash"

func rosterHead() []string {
	head := slices.Clone(rosterColumns)
	for _, s := range keep.AllSettings {
		head = append(head, s.Flag())
	}
	return head
}

// cells are an account's columns by name. Export puts an apostrophe before what begins
// like a formula of a spreadsheet, or with one itself; reading takes it off again.
func cells(a *keep.Account) map[string]string {
	var mounts, grants []string
	for _, m := range a.Mounts {
		mounts = append(mounts, m.Text())
	}
	for _, g := range a.Grants {
		grants = append(grants, g.Text())
	}
	row := map[string]string{"account": a.Name, "state": string(a.State), "source": a.From(), "must-change": map[bool]string{true: "yes", false: "no"}[a.MustChange],
		"groups": strings.Join(a.Groups, ","), "note": a.Note, "mail": a.Mail, "mounts": strings.Join(mounts, "\n"), "grants": strings.Join(grants, "\n")}
	if a.PasswordHash != "" {
		row["password"] = "set"
	}
	for _, s := range keep.AllSettings {
		row[s.Flag()] = a.Settings.Text(s.Name)
	}
	return row
}

// Export writes the roster.
func (o *Office) Export(ctx context.Context, w io.Writer) error {
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	out := csv.NewWriter(w)
	head := rosterHead()
	if err := out.Write(head); err != nil {
		return err
	}
	for _, a := range accounts {
		row := cells(a)
		line := make([]string, len(head))
		for i, column := range head {
			line[i] = row[column]
			if line[i] != "" && strings.ContainsRune("=+-@\t\r'", rune(line[i][0])) {
				line[i] = "'" + line[i]
			}
		}
		if err := out.Write(line); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// maxRoster bounds the lines of one import.
const maxRoster = 20_000

// readRoster reads which accounts a list adds and which it changes.
func (o *Office) readRoster(ctx context.Context, text string) (lines []api.RosterLine, add, save []*keep.Account, err error) {
	text = strings.TrimPrefix(text, "\ufeff")
	in := csv.NewReader(strings.NewReader(text))
	in.Comma, in.FieldsPerRecord = separator(text), -1
	head, err := in.Read()
	if err != nil {
		return nil, nil, nil, rosterError(err)
	}
	if err := checkHead(head); err != nil {
		return nil, nil, nil, err
	}
	seen := map[string]bool{}
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return lines, add, save, nil
		}
		if err != nil {
			return nil, nil, nil, rosterError(err)
		}
		at, _ := in.FieldPos(0)
		line, a, err := o.readLine(ctx, head, row, seen)
		line.Line = at
		if err != nil {
			line.Does, line.Say = "refused", err.Error()
		}
		if lines = append(lines, line); len(lines) > maxRoster {
			return nil, nil, nil, &keep.FieldError{Field: "csv", Say: fmt.Sprintf("it has more than %d lines: import it in parts", maxRoster)}
		}
		switch line.Does {
		case "add":
			add = append(add, a)
		case "change":
			save = append(save, a)
		}
	}
}

// Import reads a roster: accounts that are not there are added, others changed;
// none is deleted. A column that is missing leaves what it is about as it is. With
// dry nothing is done; when a line is refused nothing is done either.
func (o *Office) Import(ctx context.Context, who Actor, text string, dry bool) ([]api.RosterLine, error) {
	lines, add, save, err := o.readRoster(ctx, text)
	refused := slices.ContainsFunc(lines, func(line api.RosterLine) bool { return line.Does == "refused" })
	if err != nil || dry || refused || len(add)+len(save) == 0 {
		for i := range lines {
			lines[i].Password = ""
		}
		return lines, err
	}
	hashes := map[string]readyPassword{} // which takes long, and holds up nobody
	for _, line := range lines {
		if line.Password != "" {
			if hashes[line.Account], err = o.readyPassword(ctx, line.Account, keep.Secret(line.Password)); err != nil {
				return nil, err
			}
		}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	now, add, save, err := o.readRoster(ctx, text)
	if err != nil || slices.ContainsFunc(now, func(line api.RosterLine) bool { return line.Does == "refused" }) {
		return now, err
	}
	for i := range now {
		if now[i].Password != "" && hashes[now[i].Account].hash == "" || lines[i].Does != now[i].Does {
			return nil, keep.Refuse(keep.InUse, "accounts were changed while the list was read: import it again")
		}
	}
	for _, a := range slices.Concat(add, save) {
		if err := hashes[a.Name].set(a); err != nil {
			return nil, err
		}
	}
	before := make([]*facts, len(save))
	for i, a := range save {
		was, err := o.DB.Account(ctx, a.Name)
		if err != nil {
			return nil, err
		}
		before[i] = factsOf(was)
	}
	whole := recordOf(who, keep.AccountsImport, "", fmt.Sprintf("%d added, %d changed", len(add), len(save)))
	err = o.Trail.Change(ctx, whole, func(ctx context.Context) error {
		if err := o.DB.WriteAccounts(ctx, add, save); err != nil {
			return err
		}
		return o.eachChanged(ctx, who, add, save, before)
	})
	if err != nil {
		return nil, err
	}
	return lines, o.renew(ctx, slices.Concat(add, save))
}

// eachChanged keeps each account of an import in the history, and has it recorded.
func (o *Office) eachChanged(ctx context.Context, who Actor, add, save []*keep.Account, before []*facts) error {
	for _, a := range add {
		if err := o.noteChange(ctx, who, keep.AccountAdd, accounts, a.Name, nil, factsOf(a)); err != nil {
			return err
		}
	}
	for i, a := range save {
		if err := o.noteChange(ctx, who, keep.AccountSet, accounts, a.Name, before[i], factsOf(a)); err != nil {
			return err
		}
	}
	return nil
}

func rosterError(err error) error {
	say := "it is empty: the first line names the columns, account among them"
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		say = fmt.Sprintf("line %d is no CSV: %s; cells are separated by commas, semicolons or tabs, and one that holds such or a line break stands in double quotes", bad.Line, bad.Err)
	}
	return &keep.FieldError{Field: "csv", Say: say}
}

// separator is what stands between the names of the columns: spreadsheets write a semicolon where the
// comma is in numbers.
func separator(text string) rune {
	head, _, _ := strings.Cut(text, "\n")
	for _, one := range []rune{',', ';', '\t'} {
		if strings.ContainsRune(head, one) {
			return one
		}
	}
	return ','
}

func checkHead(head []string) error {
	known := append(rosterHead(), hashColumn)
	for i, name := range head {
		head[i] = strings.ToLower(strings.TrimSpace(name))
		if !slices.Contains(known, head[i]) {
			return &keep.FieldError{Field: "csv", Say: fmt.Sprintf("there is no column %q: use %s", name, strings.Join(known, ", "))}
		}
	}
	if !slices.Contains(head, "account") {
		return &keep.FieldError{Field: "csv", Say: "the column account is missing"}
	}
	return nil
}

// readLine finds out what a line does, without doing it.
func (o *Office) readLine(ctx context.Context, head, row []string, seen map[string]bool) (api.RosterLine, *keep.Account, error) {
	given := map[string]string{}
	for i, column := range head[:min(len(head), len(row))] {
		given[column] = strings.TrimPrefix(row[i], "'")
	}
	line := api.RosterLine{Account: strings.TrimSpace(given["account"]), Does: "change", Changes: []string{}}
	if len(row) != len(head) {
		return line, nil, fmt.Errorf("it has %s, and the first line names %s", keep.SayMany(len(row), "cell"), keep.SayMany(len(head), "column"))
	}
	if seen[strings.ToLower(line.Account)] {
		return line, nil, errors.New("the account stands in the table twice")
	}
	seen[strings.ToLower(line.Account)] = true
	before, err := o.DB.Account(ctx, line.Account)
	now := time.Now().UTC()
	a := &keep.Account{Name: line.Account, State: keep.StateActive, Created: now}
	switch {
	case errors.Is(err, records.ErrNotFound):
		line.Does = "add"
	case err != nil:
		return line, nil, err
	default:
		copied := *before
		a = &copied
		line.Account = a.Name
	}
	was := cells(a)
	a.Changed = now
	var wrong []string
	for _, column := range head {
		if err := putCell(a, column, given[column]); err != nil {
			wrong = append(wrong, inColumn(column, err))
		}
	}
	if _, err := o.check(ctx, a); err != nil {
		wrong = append(wrong, inColumn("", err))
	}
	if len(wrong) > 0 {
		return line, nil, errors.New(strings.Join(wrong, "; "))
	}
	is := cells(a)
	for _, column := range rosterHead() {
		if was[column] != is[column] {
			line.Changes = append(line.Changes, fmt.Sprintf("%s: %s → %s", column, quoted(was[column]), quoted(is[column])))
		}
	}
	if hash := keep.Secret(given[hashColumn]); hash != "" && before == nil {
		if given["password"] == "generate" {
			return line, nil, errors.New("password: either one is generated, or its hash is given")
		}
		if a.Source != "" {
			return line, nil, errors.New(hashColumn + ": the password of the account is not kept here, " + a.Source + " has it")
		}
		if err := passwords.CheckHash(hash); err != nil {
			return line, nil, errors.New(inColumn(hashColumn, err))
		}
		a.PasswordHash = hash
		line.Changes = append(line.Changes, "password: as it was elsewhere")
	} else if hash != "" {
		return line, nil, errors.New(hashColumn + ": the account is there already, with a password of its own: leave the cell empty")
	}
	if given["password"] == "generate" {
		line.Password = passwords.Generate().Reveal()
		line.Changes = append(line.Changes, "password: generated")
	}
	if line.Does == "change" && len(line.Changes) == 0 {
		line.Does = "nothing"
	}
	return line, a, nil
}

// inColumn says what is wrong by the name of the column, "" where the error names a field itself.
func inColumn(column string, err error) string {
	var field *keep.FieldError
	if !errors.As(err, &field) {
		return strings.TrimPrefix(column+": "+err.Error(), ": ")
	}
	return cmp.Or(column, strings.Replace(keep.Setting{Name: field.Field}.Flag(), "name", "account", 1)) + ": " + field.Say
}

func quoted(text string) string {
	if text == "" {
		return "nothing"
	}
	return strconv.Quote(text)
}

// putCell reads one cell into an account.
func putCell(a *keep.Account, column, text string) (err error) {
	lines := strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' })
	switch column {
	case "account", hashColumn:
	case "state":
		if text != "" {
			a.State = keep.State(text)
		}
	case "source":
		if text == keep.OwnSource {
			text = ""
		}
		if text != a.Source {
			a.Source, a.SourceID = text, ""
		}
	case "password":
		if text != "" && text != "set" && text != "generate" {
			return &keep.FieldError{Field: column, Say: "passwords don't stand in tables: say generate, or leave the cell empty"}
		}
	case "must-change":
		a.MustChange = text == "yes"
		if text != "" && text != "yes" && text != "no" {
			return &keep.FieldError{Field: column, Say: "say yes or no"}
		}
	case "groups":
		a.Groups = strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
	case "note":
		a.Note = text
	case "mail":
		a.Mail = text
	case "mounts":
		a.Mounts = nil
		for _, one := range lines {
			m, err := keep.ParseMount(one)
			if err != nil {
				return err
			}
			a.Mounts = append(a.Mounts, m)
		}
	case "grants":
		a.Grants = nil
		for _, one := range lines {
			g, err := keep.ParseGrant(one)
			if err != nil {
				return err
			}
			a.Grants = append(a.Grants, g)
		}
	default:
		for _, s := range keep.AllSettings {
			if s.Flag() == column {
				err = a.Settings.PutText(s.Name, text)
			}
		}
	}
	return err
}
