package keep

import (
	"fmt"
	"strings"
)

// Anonymous is the account that anybody may use over FTP with an e-mail address
// in place of a password (RFC 1635). There is none until an operator makes it;
// then it reads, whatever its grants say.
const Anonymous = "anonymous"

// anonymousToo is the other name by which clients ask for it (RFC 1635, section 3.1).
const anonymousToo = "ftp"

// SignInName is the account that a name at the sign-in stands for.
func SignInName(name string) string {
	if strings.EqualFold(name, anonymousToo) {
		return Anonymous
	}
	return name
}

// Anonymous reports whether anybody may use the account.
func (a *Account) Anonymous() bool { return strings.EqualFold(a.Name, Anonymous) }

// checkAnonymous keeps the open account open and harmless.
func (a *Account) checkAnonymous() error {
	if strings.EqualFold(a.Name, anonymousToo) {
		return &FieldError{"name", fmt.Sprintf("%q is another name of %q at the sign-in: use that, or another", a.Name, Anonymous)}
	}
	if !a.Anonymous() {
		return nil
	}
	if a.PasswordHash != "" || a.MustChange || a.Settings.SignInBy != nil && *a.Settings.SignInBy != DefaultProofs {
		return &FieldError{"password", "everybody may use the account anonymous: it has no password, and asks for no key"}
	}
	for i := range a.Grants {
		a.Grants[i].Rights &= readOnly
	}
	return nil
}
