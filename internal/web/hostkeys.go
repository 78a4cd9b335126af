package web

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/web/api"
)

// sshfpAlgorithms are the numbers of RFC 4255, RFC 6594 and RFC 7479.
var sshfpAlgorithms = map[string]int{ssh.KeyAlgoRSA: 1, ssh.KeyAlgoECDSA256: 3, ssh.KeyAlgoECDSA384: 3, ssh.KeyAlgoECDSA521: 3, ssh.KeyAlgoED25519: 4}

// sshfpSHA256 is the fingerprint type of RFC 6594, section 4.
const sshfpSHA256 = 2

func (s *Server) hostKeys(c *gin.Context) error {
	page := api.Page[api.HostKey]{Items: []api.HostKey{}}
	for _, key := range s.HostKeys {
		public := key.PublicKey()
		page.Items = append(page.Items, api.HostKey{Type: public.Type(), Fingerprint: ssh.FingerprintSHA256(public),
			Line:  strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))),
			SSHFP: fmt.Sprintf("%d %d %x", sshfpAlgorithms[public.Type()], sshfpSHA256, sha256.Sum256(public.Marshal()))})
	}
	c.JSON(http.StatusOK, page)
	return nil
}
