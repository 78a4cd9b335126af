package pass

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/mail"
	"path"
	"strings"
	"sync"
	"time"
	"unicode"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

const (
	// maxOwn bounds the files that a visitor is shown as their own.
	maxOwn = 1000
	// maxSaid bounds what a visitor says of themselves, bytes; maxMessage the message.
	maxSaid, maxMessage = 200, 4000
	// maxFolders bounds the names that are tried for a folder of a visit's own.
	maxFolders = 100
)

// drops is what one visitor has left.
type drops struct {
	mu     sync.Mutex
	folder string // where it is put; "": nowhere yet
	who    string // as the folder is named
	own    []entry
}

func (d *drops) add(name string, size int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.own) < maxOwn {
		d.own = append(d.own, entry{Name: name, Size: size})
	}
}

func (d *drops) all() []entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]entry(nil), d.own...)
}

var errFolderGone = keep.Refuse(keep.NotFound, "the folder behind this link is not there any more: tell whoever gave it to you")

var errNoDrop = &exchange.Problem{Status: http.StatusForbidden, Say: "with this link files are fetched, not left"}

// into is the folder into which a visitor's files go; one of their own is made with the first of them.
func (one *visitor) into() (string, error) {
	if one.pass.Kind != keep.DropPass {
		return "", errNoDrop
	}
	base := one.pass.Paths[0]
	if !one.pass.Apart {
		return base, nil
	}
	d := &one.drops
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.folder != "" {
		return d.folder, nil
	}
	name := strings.TrimSpace(time.Now().UTC().Format("2006-01-02 15.04 ") + folderName(d.who))
	for n := 1; ; n++ {
		at := path.Join(base, name)
		if n > 1 {
			at = fmt.Sprintf("%s (%d)", at, n)
		}
		err := one.Tree.Mkdir(at, nil)
		if err == nil {
			d.folder = at
			return at, nil
		}
		if keep.FaultOf(err).Reason == keep.NotFound {
			return "", errFolderGone
		}
		if n >= maxFolders || keep.FaultOf(err).Reason != keep.AlreadyThere {
			return "", err
		}
	}
}

// folderName is what of a visitor's name stands in that of their folder.
func folderName(who string) string {
	var name strings.Builder
	for _, r := range who {
		if name.Len() > 60 {
			break
		}
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_':
			name.WriteRune(r)
		case r == ' ' || r == '.' || r == ',':
			name.WriteByte(' ')
		}
	}
	return strings.Join(strings.Fields(name.String()), " ")
}

// bare is the name of a file as its system calls it, without folders.
func bare(name string) (string, error) {
	name = name[strings.LastIndexAny(name, `/\`)+1:]
	if name == "" || name == "." || name == ".." {
		return "", keep.Refuse(keep.BadName, "the file has no name")
	}
	return name, nil
}

// at is where a file of a name is left.
func (one *visitor) at(name string) (string, error) {
	name, err := bare(name)
	if err != nil {
		return "", err
	}
	folder, err := one.into()
	if err != nil {
		return "", err
	}
	return exchange.PathOf(folder + "/" + name)
}

// counted knows how much was read.
type counted struct {
	io.ReadCloser
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n += int64(n)
	return n, err
}

// receive takes a file that comes with a request.
func (s *Server) receive(w http.ResponseWriter, r *http.Request, one *visitor, name string) error {
	at, err := one.at(name)
	if err != nil {
		return err
	}
	if left := one.visit.Left(); left >= 0 && r.ContentLength > left {
		return keep.Refuse(keep.TooLarge, "the file has "+keep.SaySize(r.ContentLength)+"; this link may move "+keep.SaySize(left)+" more")
	}
	body := &counted{ReadCloser: r.Body}
	r.Body = body
	if _, err := s.files.Put(w, r, one.Stay, at); err != nil {
		return gone(err)
	}
	one.drops.add(path.Base(at), body.n)
	return nil
}

// put takes a file as curl -T sends it.
func (s *Server) put(w http.ResponseWriter, r *http.Request, one *visitor) error {
	if err := s.known(r, one); err != nil {
		return err
	}
	if err := s.receive(w, r, one, r.PathValue("name")); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(http.StatusCreated)
	io.WriteString(w, r.PathValue("name")+" has come whole. Thank you.\n")
	return nil
}

// known refuses who has not said who they are, where the pass asks: a program says it with From (RFC 9110, section 10.1.2).
func (s *Server) known(r *http.Request, one *visitor) error {
	one.drops.mu.Lock()
	who := one.drops.who
	one.drops.mu.Unlock()
	if !one.pass.Asks || who != "" {
		return nil
	}
	from, err := mail.ParseAddress(r.Header.Get("From"))
	if err != nil || from.Name == "" {
		return &keep.FieldError{Field: "from", Say: "say who you are, as in curl -H 'From: Your Name <you@example.com>'"}
	}
	return s.note(r.Context(), one, told{name: from.Name, mail: from.Address})
}

// told is what a visitor says of themselves.
type told struct{ name, mail, message string }

func (t *told) check() error {
	for field, text := range map[string]string{"name": t.name, "mail": t.mail} {
		if len(text) > maxSaid || strings.ContainsFunc(text, unicode.IsControl) {
			return &keep.FieldError{Field: field, Say: fmt.Sprintf("use one line of at most %d bytes for the name and for the address", maxSaid)}
		}
	}
	switch {
	case t.name == "":
		return &keep.FieldError{Field: "name", Say: "say who you are"}
	case t.mail != "" && !strings.Contains(t.mail, "@"):
		return &keep.FieldError{Field: "mail", Say: "that is no e-mail address"}
	case len(t.message) > maxMessage:
		return &keep.FieldError{Field: "message", Say: fmt.Sprintf("the message has more than %d bytes", maxMessage)}
	}
	return nil
}

func (s *Server) note(ctx context.Context, one *visitor, t told) error {
	if !one.pass.Asks {
		return nil
	}
	if err := t.check(); err != nil {
		return err
	}
	one.drops.mu.Lock()
	one.drops.who = t.name
	one.drops.mu.Unlock()
	return one.visit.Tell(ctx, t.name, t.mail, t.message)
}

// tell takes what a visitor says, from the page's script.
func (s *Server) tell(w http.ResponseWriter, r *http.Request, one *visitor) error {
	var ask api.PassTold
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	return exchange.DoneWith(w, s.note(r.Context(), one, told{ask.Name, ask.Mail, ask.Message}))
}

// createUpload begins an upload that can go on.
func (s *Server) createUpload(w http.ResponseWriter, r *http.Request, one *visitor) error {
	if err := s.known(r, one); err != nil {
		return err
	}
	about, err := exchange.Metadata(r)
	if err != nil {
		return err
	}
	at, err := one.at(about["filename"])
	if err != nil {
		return err
	}
	return gone(s.files.CreateUploadAt(w, r, one.Stay, at, about))
}

// gone is what a visitor hears when the folder of a pass is.
func gone(err error) error {
	var fault *keep.Fault
	if errors.As(err, &fault) && fault.Reason == keep.NotFound {
		return errFolderGone
	}
	return err
}

// patchUpload takes the next piece of one.
func (s *Server) patchUpload(w http.ResponseWriter, r *http.Request, one *visitor) error {
	if err := s.files.PatchUpload(w, r, one.Stay); err != nil {
		return err
	}
	if u, err := one.visit.Upload(r.Context(), r.PathValue("id")); err == nil && u.Done {
		one.drops.add(path.Base(u.Path), u.Size)
	}
	return nil
}

// post takes the password of a link, or files from a form of a browser without scripts.
func (s *Server) post(w http.ResponseWriter, r *http.Request) error {
	if strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/form-data") {
		return s.within(s.form)(w, r)
	}
	if err := exchange.FirstForm(w, r, 64<<10); err != nil {
		return err
	}
	secret, password := keep.Secret(r.PathValue("secret")), keep.Secret(r.PostForm.Get("password"))
	one, err := s.arrive(r, secret, password)
	if err != nil {
		return err
	}
	s.setCookie(w, r, secret, s.visits.Begin(one))
	http.Redirect(w, r, Prefix+secret.Reveal()+"/", http.StatusSeeOther)
	return nil
}

// form takes files as they come; what the visitor says stands before them.
func (s *Server) form(w http.ResponseWriter, r *http.Request, one *visitor) error {
	reader, err := r.MultipartReader()
	if err != nil {
		return &exchange.Problem{Status: http.StatusBadRequest, Say: "the form is not well-formed"}
	}
	var say told
	files, noted := 0, false
	for {
		part, err := reader.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return &exchange.Problem{Status: http.StatusBadRequest, Say: "the form did not come to its end"}
		}
		if part.FormName() != "file" {
			if err := field(part, &say); err != nil {
				return err
			}
			continue
		}
		if part.FileName() == "" {
			continue // none was chosen
		}
		if !noted {
			if err := s.note(r.Context(), one, say); err != nil {
				return err
			}
			noted = true
		}
		piece := r.Clone(r.Context())
		piece.Body, piece.ContentLength = part, -1
		if err := s.receive(w, piece, one, part.FileName()); err != nil {
			return err
		}
		files++
	}
	if files == 0 {
		return &keep.FieldError{Field: "file", Say: "choose a file first"}
	}
	http.Redirect(w, r, Prefix+one.secret.Reveal()+"/", http.StatusSeeOther)
	return nil
}

func field(part *multipart.Part, say *told) error {
	text, err := io.ReadAll(io.LimitReader(part, 64<<10))
	if err != nil {
		return &exchange.Problem{Status: http.StatusBadRequest, Say: "the form did not come to its end"}
	}
	switch part.FormName() {
	case "name":
		say.name = strings.TrimSpace(string(text))
	case "mail":
		say.mail = strings.TrimSpace(string(text))
	case "message":
		say.message = strings.TrimSpace(string(text))
	}
	return nil
}
