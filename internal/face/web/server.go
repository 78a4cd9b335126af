package web

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/exchange"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/metrics"
	"urbankeep/internal/watch/series"
	"urbankeep/internal/watch/traffic"
)

//go:embed openapi.yaml
var openAPI []byte

// Server answers the API and serves the console.
type Server struct {
	Office    *office.Office
	Operators *signin.Operators
	DB        *records.DB
	Trail     *audit.Trail
	Seal      *audit.Seal
	Traffic   *traffic.Registry
	Series    *series.Book
	Metrics   *metrics.Metrics
	Posts     Posts
	Status    func(ctx context.Context) (api.Status, error)
	Stopping  context.Context // ends event streams
	streams   streams
	Log       *slog.Logger
}

// Posts tells how the listeners do.
type Posts interface {
	// Watch tells where a listener really listens, "" when it doesn't, how many of
	// its passive ports are taken, and how often there was none left.
	Watch(listener string) (address string, taken, refused int)
	// Unable says why a listener can't listen that should, "" when it can.
	Unable(listener string) string
}

// unchanged marks the answer to a change that changed nothing.
func unchanged(c *gin.Context) {
	c.Request = c.Request.WithContext(signin.OnNothing(c.Request.Context(), func() { c.Header(api.Unchanged, "true") }))
}

const (
	cookieName = "urbankeep"
	// maxPage and usualPage bound the lists.
	maxPage   = 1000
	usualPage = 100
)

// Handler makes the HTTP handler. A local one is for the control socket: who can
// open that file is the machine's own administrator.
func (s *Server) Handler(local bool) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.Use(gin.CustomRecovery(func(c *gin.Context, cause any) {
		s.Log.Error("request panicked", "path", c.Request.URL.Path, "cause", cause)
		s.writeError(c, errors.New("panic"))
	}), s.measure, headers, s.onFace, slowBody, unchanged)
	engine.HandleMethodNotAllowed, engine.RedirectTrailingSlash = true, false // which would believe X-Forwarded-Prefix of anybody
	engine.NoMethod(s.handle(func(*gin.Context) error {
		return &exchange.Problem{Status: http.StatusMethodNotAllowed, Say: "this address does not take that method"}
	}))
	v1 := engine.Group("/api/v1")
	v1.GET("/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", openAPI) })
	v1.GET("/setup", s.handle(s.setupState))
	v1.POST("/setup", s.handle(s.setUp))
	v1.POST("/sign-in", s.handle(s.signIn))
	v1.POST("/sign-in/passkey/ask", s.handle(s.askPasskey))
	v1.POST("/sign-in/passkey", s.handle(s.signInByPasskey))
	v1.GET("/sign-in/sso", s.handle(s.operatorsSSO))
	v1.POST("/sign-in/sso", s.handle(s.leaveForSSO))

	v1.POST("/password-links/open", s.handle(s.openPassword))

	known := v1.Group("", s.identify(local), s.settle)
	owners := s.handle(ownersOnly)
	known.POST("/sign-out", s.handle(s.signOut))
	known.GET("/me", s.handle(s.me))
	known.POST("/me/password", s.handle(s.changeMyPassword))
	known.POST("/me/codes", s.handle(s.newCodes))
	known.PUT("/me/codes", s.handle(s.useCodes))
	known.DELETE("/me/codes", s.handle(s.dropCodes))
	known.GET("/me/passkeys", s.handle(s.passkeys))
	known.POST("/me/passkeys/ask", s.handle(s.newPasskey))
	known.POST("/me/passkeys", s.handle(s.addPasskey))
	known.DELETE("/me/passkeys/:id", s.handle(s.dropPasskey))
	known.GET("/host-keys", s.handle(s.hostKeys))
	known.POST("/host-keys", s.handle(s.addHostKey))
	known.POST("/host-keys/:id/use", s.handle(s.useHostKey))
	known.DELETE("/host-keys/:id", s.handle(s.removeHostKey))
	known.GET("/operators", s.handle(s.operators))
	known.POST("/operators", owners, s.handle(s.addOperator))
	known.PATCH("/operators/:operator", owners, s.handle(s.setOperator))
	known.DELETE("/operators/:operator", owners, s.handle(s.removeOperator))
	known.POST("/operators/:operator/tokens", owners, s.handle(s.addToken))
	known.GET("/access", s.handle(s.access))
	known.DELETE("/access/:id", s.handle(s.endAccess))
	known.GET("/backup", owners, s.handle(s.backup))
	known.GET("/setup-steps", s.handle(s.setupSteps))
	known.PUT("/setup-steps/:step", s.handle(s.markSetup))
	known.GET("/checkup", s.handle(s.checkup))
	known.GET("/ports", s.handle(s.ports))
	known.GET("/changes", s.handle(s.history))
	known.POST("/changes/:change/undo", s.handle(s.undo))
	known.GET("/service", s.handle(s.identity))
	known.PATCH("/service", s.handle(s.setIdentity))
	known.GET("/status", s.handle(s.status))
	known.GET("/listeners", s.handle(s.listeners))
	known.POST("/listeners", s.handle(s.addListener))
	known.PATCH("/listeners/:name", s.handle(s.setListener))
	known.DELETE("/listeners/:name", s.handle(s.removeListener))
	known.GET("/certificates", s.handle(s.certificates))
	known.PUT("/certificates/:name", s.handle(s.setCertificate))
	known.DELETE("/certificates/:name", s.handle(s.removeCertificate))
	known.GET("/lockouts", s.handle(s.lockouts))
	known.DELETE("/lockouts/:name", s.handle(s.liftLockout))
	known.GET("/limits", s.handle(s.limits))
	known.PATCH("/limits", s.handle(s.setLimits))
	known.GET("/gate", s.handle(s.gate))
	known.PUT("/gate", s.handle(s.setGate))
	known.GET("/stores", s.handle(s.stores))
	known.POST("/stores", s.handle(s.addStore))
	known.PATCH("/stores/:name", s.handle(s.setStore))
	known.POST("/stores/:name/mark", s.handle(s.markStore))
	known.POST("/stores/:name/check", s.handle(s.checkStore))
	known.GET("/stores/:name/move", s.handle(s.storeMove))
	known.POST("/stores/:name/move", owners, s.handle(s.moveStore))
	known.DELETE("/stores/:name/move", owners, s.handle(s.stopStoreMove))
	known.POST("/stores/:name/unlock", s.handle(s.unlockStore))
	known.DELETE("/stores/:name", s.handle(s.removeStore))
	known.GET("/store-grounds", s.handle(s.grounds))
	known.PUT("/store-grounds", owners, s.handle(s.setGrounds))
	known.GET("/quotas", s.handle(s.quotas))
	known.GET("/quotas/history", s.handle(s.quotaHistory))
	known.POST("/quotas/recount", s.handle(s.recount))
	known.GET("/find", s.handle(s.find))
	known.GET("/groups", s.handle(s.groups))
	known.POST("/groups", s.handle(s.addGroup))
	known.GET("/groups/:name", s.handle(s.group))
	known.PATCH("/groups/:name", s.handle(s.setGroup))
	known.DELETE("/groups/:name", s.handle(s.deleteGroup))
	known.POST("/password-tests", s.handle(s.testPassword))
	known.GET("/account-roster", s.handle(s.exportAccounts))
	known.POST("/account-roster", s.handle(s.importAccounts))
	known.GET("/settings", s.handle(s.settings))
	known.POST("/accounts/:name/rehearsal", s.handle(s.rehearse))
	known.POST("/accounts/:name/clone", s.handle(s.cloneAccount))
	known.GET("/accounts", s.handle(s.accounts))
	known.POST("/accounts", s.handle(s.addAccount))
	known.GET("/accounts/:name", s.handle(s.account))
	known.PATCH("/accounts/:name", s.handle(s.setAccount))
	known.DELETE("/accounts/:name", s.handle(s.deleteAccount))
	known.GET("/passes", s.handle(s.passes))
	known.POST("/passes", s.handle(s.addPass))
	known.DELETE("/passes/:id", s.handle(s.endPass))
	known.GET("/passes/:id/uses", s.handle(s.passUses))
	known.GET("/locks", s.handle(s.locks))
	known.DELETE("/locks/:id", s.handle(s.breakLock))
	known.DELETE("/accounts/:name/passes", s.handle(s.endPasses))
	known.GET("/accounts/:name/handover", s.handle(s.handover))
	known.POST("/accounts/:name/password-link", s.handle(s.linkPassword))
	known.DELETE("/accounts/:name/codes", s.handle(s.dropAccountCodes))
	known.GET("/accounts/:name/explain", s.handle(s.explain))
	known.POST("/accounts/:name/suspend", s.handle(s.suspend))
	known.POST("/accounts/:name/resume", s.handle(s.resume))
	known.GET("/accounts/:name/keys", s.handle(s.keys))
	known.POST("/accounts/:name/keys", s.handle(s.addKey))
	known.POST("/accounts/:name/key-pairs", s.handle(s.makeKey))
	known.PATCH("/accounts/:name/keys/:key", s.handle(s.setKey))
	known.DELETE("/accounts/:name/keys/:key", s.handle(s.removeKey))
	known.POST("/key-tests", s.handle(s.testKeys))
	known.GET("/shelf", s.handle(s.shelf))
	known.POST("/shelf", s.handle(s.addShelfKey))
	known.PATCH("/shelf/:name", s.handle(s.setShelfKey))
	known.DELETE("/shelf/:name", s.handle(s.removeShelfKey))
	known.POST("/shelf/:name/accounts", s.handle(s.attachShelfKey))
	known.DELETE("/shelf/:name/accounts/:account", s.handle(s.detachShelfKey))
	known.GET("/sessions", s.handle(s.sessions))
	known.DELETE("/sessions/:id", s.handle(s.endSession))
	known.GET("/transfers", s.handle(s.transfers))
	known.DELETE("/transfers/:id", s.handle(s.endTransfer))
	known.GET("/traffic", s.handle(s.traffic))
	known.GET("/beats", s.handle(s.beats))
	known.GET("/audit", s.handle(s.audit))
	known.GET("/audit/count", s.handle(s.countAudit))
	known.GET("/audit/retention", s.handle(s.retention))
	known.PUT("/audit/retention", s.handle(s.setRetention))
	known.GET("/audit/archives", s.handle(s.archives))
	known.POST("/audit/archives", s.handle(s.makeArchives))
	known.GET("/audit/archives/:name", s.handle(s.readArchive))
	known.GET("/collector", s.handle(s.collector))
	known.PUT("/collector", owners, s.handle(s.setCollector))
	known.GET("/audit/verify", s.handle(s.verify))
	known.GET("/audit/export", s.handle(s.exportAudit))
	known.GET("/audit/checkpoint", s.handle(s.checkpoint))
	known.POST("/audit/checkpoint", s.handle(s.signCheckpoint))
	known.GET("/audit/durability", s.handle(s.auditDurability))
	known.PUT("/audit/durability", s.handle(s.setAuditDurability))
	known.GET("/notices", s.handle(s.notices))
	known.POST("/notices", s.handle(s.addNotice))
	known.POST("/notice-dry-runs", s.handle(s.dryRunNew))
	known.GET("/notice-events", s.handle(s.noticeEvents))
	known.PATCH("/notices/:name", s.handle(s.setNotice))
	known.DELETE("/notices/:name", s.handle(s.removeNotice))
	known.POST("/notices/:name/test", s.handle(s.tryNotice))
	known.GET("/notices/:name/dry-run", s.handle(s.dryRun))
	known.GET("/told", s.handle(s.told))
	known.GET("/sources", s.handle(s.sources))
	known.POST("/sources", owners, s.handle(s.addSource))
	known.PATCH("/sources/:name", owners, s.handle(s.setSource))
	known.DELETE("/sources/:name", owners, s.handle(s.removeSource))
	known.POST("/sources/:name/check", owners, s.handle(s.trySource))
	known.POST("/sources/:name/sync", owners, s.handle(s.syncSource))
	known.GET("/routes", s.handle(s.routesNow))
	known.PUT("/routes", owners, s.handle(s.setRoutes))
	known.GET("/receivers", s.handle(s.receivers))
	known.POST("/receivers", s.handle(s.addReceiver))
	known.PATCH("/receivers/:name", s.handle(s.setReceiver))
	known.DELETE("/receivers/:name", s.handle(s.removeReceiver))
	known.POST("/receivers/:name/test", s.handle(s.tryReceiver))
	known.POST("/receivers/:name/retry", s.handle(s.retryReceiver))
	known.GET("/troubles", s.handle(s.troubles))
	known.GET("/held", s.handle(s.held))
	known.POST("/held/:id", s.handle(s.decideHeld))
	known.GET("/mail", s.handle(s.mailServer))
	known.PUT("/mail", owners, s.handle(s.setMailServer))
	known.POST("/mail/test", owners, s.handle(s.tryMail))
	known.GET("/reports", s.handle(s.reports))
	known.GET("/reports/:name", s.handle(s.report))
	known.GET("/live", s.handle(s.live))
	engine.GET(keep.SSOBack, s.handle(s.backFromSSO))
	engine.GET("/metrics", s.identify(local), gin.WrapH(s.Metrics.Handler()))
	if local {
		engine.NoRoute(s.handle(func(*gin.Context) error { return errNoAddress }))
		return engine
	}
	engine.NoRoute(s.handle(s.console))
	// Refuses changes that another site's page makes in an operator's browser.
	return http.NewCrossOriginProtection().Handler(engine)
}

// measure counts requests by their route.
func (s *Server) measure(c *gin.Context) {
	started := time.Now()
	c.Next()
	route, method := c.FullPath(), c.Request.Method
	if route == "" {
		route, method = "other", "other" // what clients make up must not become a label
	}
	if route != "/api/v1/live" {
		s.Metrics.Request(route, method, c.Writer.Status(), time.Since(started))
	}
}

// settlePatience bounds how long a question waits for the newest records.
const settlePatience = 2 * time.Second

// settle lets a question wait until what was done before it can be read.
func (s *Server) settle(c *gin.Context) {
	if c.Request.Method == http.MethodGet {
		ctx, cancel := context.WithTimeout(c.Request.Context(), settlePatience)
		defer cancel()
		s.Trail.Settle(ctx)
	}
}

// headers are what every response carries.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") || c.Request.URL.Path == "/metrics" {
		h.Set("Cache-Control", "no-store")
	}
}

var (
	errSignIn    = &exchange.Problem{Status: http.StatusUnauthorized, Say: "sign in first"}
	errRole      = &exchange.Problem{Status: http.StatusForbidden, Say: "an auditor reads and changes nothing: ask a manager or an owner"}
	errNoAddress = &exchange.Problem{Status: http.StatusNotFound, Say: "nothing is at this address"}
)

// handle turns a handler that returns an error into Gin's.
func (s *Server) handle(do func(*gin.Context) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := do(c); err != nil {
			s.writeError(c, err)
		}
	}
}

// hasLeft reports whether a request failed because nobody waits for the answer any more.
func hasLeft(c *gin.Context, err error) bool {
	return c.Request.Context().Err() != nil || errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, net.ErrClosed)
}

// writeError writes the problem of an error (RFC 9457).
func (s *Server) writeError(c *gin.Context, err error) {
	p := exchange.ProblemOf(err)
	if p.Reason == string(keep.CodeNeeded) { // who asks has not signed in yet
		p.Status, p.Title = http.StatusUnauthorized, http.StatusText(http.StatusUnauthorized)
	}
	switch {
	case p.Status == http.StatusInternalServerError && hasLeft(c, err):
		s.Log.Debug("the client left before its answer was whole", "method", c.Request.Method, "path", c.Request.URL.Path)
	case p.Status == http.StatusInternalServerError:
		s.Log.Error("request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "cause", err, "root", errors.Unwrap(err))
	}
	body, _ := json.Marshal(p)
	c.Data(p.Status, "application/problem+json", body)
	c.Abort()
}

// bodyTime is how long the body of a request may take to come.
const bodyTime = 20 * time.Second

// slowBody bounds how long a request's body may take, whether anybody reads it or not.
func slowBody(c *gin.Context) {
	if c.Request.ContentLength != 0 {
		http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(bodyTime))
	}
}

// body reads a request's JSON; unknown fields are refused.
func body(c *gin.Context, into any) error {
	if kind, _, _ := strings.Cut(c.ContentType(), ";"); kind != "application/json" {
		return &exchange.Problem{Status: http.StatusUnsupportedMediaType, Say: "send the request as application/json"}
	}
	read := exchange.FirstBody
	if _, known := c.Get("actor"); known {
		read = exchange.Body
	}
	text, err := read(c.Writer, c.Request)
	if err != nil {
		return err
	}
	return strictly(text, into)
}

// strictly reads JSON; unknown fields are refused.
func strictly(text []byte, into any) error {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(into)
	var kind *json.UnmarshalTypeError
	var field *keep.FieldError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &field):
		return field
	case errors.As(err, &kind):
		return &keep.FieldError{Field: kind.Field, Say: "it must be a " + kind.Type.String()}
	case errors.Is(err, io.EOF):
		return &exchange.Problem{Status: http.StatusBadRequest, Say: "the request has no body"}
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		return &keep.FieldError{Field: strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`), Say: "there is no such field"}
	}
	return &exchange.Problem{Status: http.StatusBadRequest, Say: "the request is not well-formed: " + strings.TrimPrefix(err.Error(), "json: ")}
}

// identify finds the operator behind a request and refuses changes by auditors.
func (s *Server) identify(local bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		who, err := s.operatorOf(c, local)
		if err == nil && c.Request.Method != http.MethodGet && !who.Role.MayChange() && !ownBusiness[c.FullPath()] {
			err = errRole
		}
		if err != nil {
			s.writeError(c, err)
			return
		}
		c.Set("actor", who)
	}
}

func (s *Server) operatorOf(c *gin.Context, local bool) (office.Actor, error) {
	if local {
		return office.Actor{Operator: "local", Role: keep.Owner, Protocol: keep.Local}, nil
	}
	operator, access, err := (*keep.Operator)(nil), "", error(records.ErrNotFound)
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		c.Set("token", true)
		operator, access, err = s.Operators.ByToken(c.Request.Context(), keep.Secret(token))
	} else if cookie, cerr := c.Cookie(cookieOf(c)); cerr == nil {
		operator, access, err = s.Operators.ByCookie(c.Request.Context(), visitor(c), keep.Secret(cookie))
	}
	if errors.Is(err, records.ErrNotFound) {
		return office.Actor{}, errSignIn
	}
	if err != nil {
		return office.Actor{}, err
	}
	c.Set("access", access)
	who := office.Actor{Operator: operator.Name, Role: operator.Role, Address: clientAddress(c), Protocol: keep.Console, Encrypted: came(c).Encrypted, Host: c.Request.Host}
	if l := came(c).Listener; l != nil {
		who.Listener = l.Name
	}
	return who, nil
}

func actor(c *gin.Context) office.Actor { return c.MustGet("actor").(office.Actor) }

// clientAddress is the IP address of who asks; a proxy that is believed has told it.
func clientAddress(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return ""
	}
	return host
}

// limit reads the page size that a request asks for.
func limit(c *gin.Context) (int, error) {
	n, err := number(c, "limit")
	switch {
	case err != nil:
		return 0, err
	case n == 0:
		return usualPage, nil
	case n < 0 || n > maxPage:
		return 0, &keep.FieldError{Field: "limit", Say: fmt.Sprintf("use 1 to %d", maxPage)}
	}
	return int(n), nil
}

// number reads a whole number from the query; 0 when it is not there.
func number(c *gin.Context, name string) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, &keep.FieldError{Field: name, Say: "it must be a whole number"}
	}
	return n, nil
}

// moment reads a time from the query, as [keep.ParseMoment] does; zero when it is not there.
func moment(c *gin.Context, name string) (time.Time, error) {
	text := c.Query(name)
	if text == "" {
		return time.Time{}, nil
	}
	t, err := keep.ParseMoment(text, time.Now())
	if err != nil {
		return t, &keep.FieldError{Field: name, Say: err.Error()}
	}
	return t, nil
}
