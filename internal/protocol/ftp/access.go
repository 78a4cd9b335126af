package ftp

import (
	"strings"
	"time"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

func (c *conn) cmdUser(name string) error {
	if c.tree != nil {
		return fail{503, "you are signed in already; REIN starts over"}
	}
	c.user = ""
	if !c.encrypted && !c.visit.MayBePlain(c.ctx, name, c.listener.Encryption != keep.EncryptionRequired) {
		return fail{530, "sign in over TLS, so that the password is not sent in clear: use AUTH TLS first (explicit FTPS)"}
	}
	if c.key != nil && c.visit.Offer(c.ctx, name, c.key) {
		return c.byCertificate(name)
	}
	c.user = name
	c.reply(331, "password, please")
	return nil
}

// byCertificate signs in by the key of the client's certificate (RFC 4217, section
// 10; the replies are those of RFC 2228, section 5.1).
func (c *conn) byCertificate(name string) error {
	opened, err := c.visit.KeyProved(c.ctx, name, c.key)
	switch {
	case err == nil:
		c.enterTree(opened, 232)
	case keep.FaultOf(err).Reason == keep.PasswordToo:
		c.user = name
		c.reply(331, "the certificate is right; password, please")
	default:
		return err
	}
	return nil
}

// enterTree is the end of a sign-in.
func (c *conn) enterTree(opened *tree.Tree, code int) {
	c.tree, c.cwd = opened, "/"
	c.signedIn()
	lines := []string{"signed in as " + opened.Account()}
	if welcome := c.listener.WelcomeFor(opened.Account(), time.Now()); welcome != "" {
		lines = append(strings.Split(welcome, "\n"), lines...)
	}
	c.reply(code, lines...)
}

func (c *conn) cmdPass(password string) error {
	if c.tree != nil && c.key != nil {
		c.reply(230, "the certificate was enough") // clients may send it all the same
		return nil
	}
	if c.tree != nil {
		return fail{503, "you are signed in already"}
	}
	if c.user == "" {
		return fail{503, "USER comes before PASS"}
	}
	opened, err := c.visit.SignIn(c.ctx, c.user, keep.Secret(password))
	if err != nil {
		c.failures++
		c.user = ""
		if c.failures >= c.server.tries() {
			c.cut(keep.Refuse(keep.TooManyAttempts, "too many failed sign-ins"))
			c.quit = true
			return fail{421, keep.FaultOf(err).Say + "; that was one attempt too many, goodbye"}
		}
		return err
	}
	c.enterTree(opened, 230)
	return nil
}

func (c *conn) cmdAcct(string) error { return fail{202, "no account information is needed"} }

// cmdRein starts over without closing the connection (RFC 959, section 4.1.1).
// TLS stays.
func (c *conn) cmdRein(string) error {
	c.signOut(nil)
	c.data.drop()
	c.reset()
	c.reply(220, "starting over: USER, please")
	return nil
}

func (c *conn) cmdQuit(string) error {
	c.quit = true
	c.reply(221, "goodbye")
	return nil
}

// cmdHost takes any name: there is one service here (RFC 7151, section 3).
func (c *conn) cmdHost(string) error {
	if c.user != "" || c.tree != nil {
		return fail{503, "HOST comes before USER"}
	}
	c.reply(220, "Urban Keep file transfer service")
	return nil
}

// cmdAuth turns TLS on (RFC 4217, section 4).
func (c *conn) cmdAuth(arg string) error {
	switch strings.ToUpper(arg) {
	case "TLS", "TLS-C", "SSL":
	default:
		return fail{504, "only AUTH TLS is known"}
	}
	if c.encrypted {
		return fail{503, "TLS is on already"}
	}
	if c.listener.Encryption == keep.EncryptionOff || c.server.TLS == nil {
		return fail{431, "this listener has no TLS"}
	}
	if c.tree != nil {
		return fail{503, "AUTH comes before the sign-in; REIN starts over"}
	}
	if c.lines.buffered() {
		// Commands sent in clear behind AUTH would be taken as if TLS had protected them.
		c.quit = true
		return fail{503, "nothing may follow AUTH before its reply; goodbye"}
	}
	c.reply(234, "begin TLS")
	if err := c.secure(); err != nil {
		c.server.Log.Debug("TLS handshake failed", "remote", c.raw.RemoteAddr(), "cause", err)
		c.quit = true
		c.raw.Close()
		return nil
	}
	c.user = ""
	return nil
}

// mustProtect reports whether data goes encrypted only: the listener says so, or the account.
func (c *conn) mustProtect() bool {
	return c.listener.Encryption == keep.EncryptionRequired || c.visit.MustProtect()
}

func (c *conn) cmdPbsz(string) error {
	if !c.encrypted {
		return fail{503, "PBSZ comes after AUTH TLS"}
	}
	c.reply(200, "PBSZ=0")
	return nil
}

func (c *conn) cmdProt(arg string) error {
	if !c.encrypted {
		return fail{503, "PROT comes after AUTH TLS and PBSZ"}
	}
	switch strings.ToUpper(arg) {
	case "P":
		c.protected = true
		c.reply(200, "data connections are encrypted")
	case "C":
		if c.mustProtect() {
			return fail{534, "this service does not send data in clear: use PROT P"}
		}
		c.protected = false
		c.reply(200, "data connections are in clear")
	case "S", "E":
		return fail{536, "TLS knows PROT P and PROT C only"}
	default:
		return fail{504, "use PROT P"}
	}
	return nil
}

func (c *conn) cmdCcc(string) error {
	if !c.encrypted {
		return fail{533, "the connection is in clear already"}
	}
	return fail{534, "the command connection stays encrypted"}
}
