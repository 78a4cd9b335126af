package https

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

type connKey struct{}

// withConn lets requests know the connection that they come on.
func withConn(ctx context.Context, c net.Conn) context.Context {
	if secured, ok := c.(*tls.Conn); ok {
		c = secured.NetConn()
	}
	if own, ok := c.(*conn); ok {
		c = own.Conn
	}
	return context.WithValue(ctx, connKey{}, c)
}

// refusal is an answer that no page gives.
type refusal struct {
	status int
	say    string
}

func (r *refusal) Error() string { return r.say }

func (r *refusal) write(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Content-Type", "application/problem+json")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	w.WriteHeader(r.status)
	json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": http.StatusText(r.status), "status": r.status, "detail": r.say})
}

const (
	challengePath = "/.well-known/acme-challenge/"
	livePath      = "/healthz"
	readyPath     = "/readyz"
)

// ServeHTTP decides on a request before any page sees it.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.ContentLength != 0 { // until somebody who wants the body says otherwise
		http.NewResponseController(w).SetReadDeadline(time.Now().Add(bodyTime))
	}
	if r.ProtoMajor == 1 && len(r.TransferEncoding) > 0 {
		// It may have had a length, too, and a proxy before us have believed that (RFC 9112, section 6.1): what comes next on the
		// connection is not read. The library doesn't tell.
		w.Header().Set("Connection", "close")
	}
	if r.ProtoMajor > 1 { // the bound of the connection sees others' streams move too
		stream := &stream{ResponseWriter: w, stall: s.Stall}
		defer stream.end()
		w = stream
	}
	if err := s.answer(w, r); err != nil {
		var no *refusal
		if !errors.As(err, &no) {
			no = &refusal{http.StatusInternalServerError, "the service failed; its log says why"}
			s.Log.Error("request failed", "cause", err)
		}
		no.write(w)
	}
}

func (s *Server) answer(w http.ResponseWriter, r *http.Request) error {
	l := s.current.Load()
	if token, ok := strings.CutPrefix(r.URL.Path, challengePath); ok && r.TLS == nil && s.Answer != nil {
		text := s.Answer(token)
		if text == "" {
			return &refusal{http.StatusNotFound, "no such challenge is open"}
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		_, err := w.Write([]byte(text))
		return err
	}
	peer := hostOf(r.RemoteAddr)
	checks := r.URL.Path == livePath || r.URL.Path == readyPath
	if !checks || !l.Proxies.Has(peer) {
		from, err := s.origin(r, l, peer)
		if err != nil {
			s.Admit(peer, l) // an address that is turned away anyhow is recorded as such
			return err
		}
		if !s.Admit(hostOf(from.RemoteAddr), l) {
			return &refusal{http.StatusForbidden, "the network rules do not let your address in"}
		}
		r = from
	}
	if checks {
		return s.health(w, r)
	}
	if !l.Answers(r.Host) {
		return &refusal{http.StatusMisdirectedRequest, fmt.Sprintf("no page is here under the name %q", keep.BareHost(r.Host))}
	}
	v := Visit{l, r.TLS != nil || encryptedBefore(r)}
	if l.Redirect != "" {
		return s.sendOn(w, r, l)
	}
	if v.Encrypted {
		w.Header().Set("Strict-Transport-Security", "max-age=31536000") // RFC 6797
	}
	s.Handle(w, r, v)
	return nil
}

func hostOf(address string) string {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return address
	}
	return at.Addr().Unmap().WithZone("").String()
}

// health tells a prober that the service lives, and whether it does its work.
func (s *Server) health(w http.ResponseWriter, r *http.Request) error {
	status, text := http.StatusOK, "alive\n"
	if r.URL.Path == readyPath {
		if text = "ready\n"; s.Ready != nil && !s.Ready(r.Context()) {
			status, text = http.StatusServiceUnavailable, "not ready: urbankeep status says why\n"
		}
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	_, err := w.Write([]byte(text))
	return err
}

// sendOn sends a request to where TLS is spoken.
func (s *Server) sendOn(w http.ResponseWriter, r *http.Request, l *keep.Listener) error {
	to := strings.TrimSuffix(l.Redirect, "/")
	if !strings.Contains(to, ":") {
		port := s.Onward(l.Redirect)
		if port == 0 {
			return &refusal{http.StatusServiceUnavailable, "what this address leads to does not listen at the moment"}
		}
		host := keep.BareHost(r.Host)
		if strings.Contains(host, ":") {
			host = "[" + host + "]"
		}
		if to = "https://" + host; port != 443 {
			to += ":" + strconv.Itoa(port)
		}
	}
	onward := "/" + strings.TrimPrefix(r.URL.EscapedPath(), "/") // whatever the target said of a scheme or a host
	if r.URL.RawQuery != "" {
		onward += "?" + r.URL.RawQuery
	}
	http.Redirect(w, r, to+onward, http.StatusPermanentRedirect)
	return nil
}

type encryptedKey struct{}

// encryptedBefore reports whether a request was encrypted up to the proxy that is believed.
func encryptedBefore(r *http.Request) bool {
	yes, _ := r.Context().Value(encryptedKey{}).(bool)
	return yes
}

// origin is the request as whoever it is for sent it. What headers tell is believed of the
// proxies of the listener only, where it is required; from others it is refused: who is
// behind them would not be seen.
func (s *Server) origin(r *http.Request, l *keep.Listener, peer string) (*http.Request, error) {
	raw, _ := r.Context().Value(connKey{}).(net.Conn)
	introduced, encrypted := false, false
	if raw != nil {
		introduced, encrypted = wire.Introduced(raw)
	}
	trusted := l.Forwarded != "" && !introduced && l.Proxies.Has(peer)
	switch {
	case introduced: // the PROXY protocol has told it; headers are nobody's
		return r.WithContext(context.WithValue(r.Context(), encryptedKey{}, encrypted)), nil
	case trusted:
		return forwarded(r, l, peer)
	}
	for _, name := range keep.ForwardingHeaders {
		if r.Header.Get(name) != "" {
			return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("the header %s came from %s, which is no proxy of this listener: name it with listener set %s -proxies %s -forwarded %s, or let it send none", name, peer, l.Name, peer, strings.ToLower(name))}
		}
	}
	return r, nil
}

// forwarded reads what a proxy says of a request (RFC 7239, or the headers that were used before). Only what the listener's
// proxies write is believed: what else there is of that kind may be the client's, and is refused.
func forwarded(r *http.Request, l *keep.Listener, peer string) (*http.Request, error) {
	for _, name := range keep.ForwardingHeaders {
		if len(r.Header.Values(name)) > 0 && !l.Forwarded.Writes(name) {
			return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("the header %s came by %s, and this listener's proxies don't write it: have the proxy remove it, or, if it writes it whatever the client sends, add it to -forwarded", name, peer)}
		}
	}
	var hops []hop
	if l.Forwarded.Writes("Forwarded") {
		hops = elements(strings.Join(r.Header.Values("Forwarded"), ","))
	} else {
		hops = classicHops(r.Header)
	}
	if len(hops) == 0 {
		return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("%s is a proxy of this listener, but does not say for whom it asks: let it send %s", peer, strings.SplitN(string(l.Forwarded), ",", 2)[0])}
	}
	// The last hops are proxies; the first address before them that is none is who asks. What is said of that, and nothing
	// before it, counts.
	var from hop
	for _, one := range slices.Backward(hops) {
		at, err := netip.ParseAddr(one.from)
		if err != nil {
			return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("the proxy %s asks for %q, which is no address", peer, one.from)}
		}
		from = one
		if from.from = at.Unmap().WithZone("").String(); !l.Proxies.Has(from.from) {
			break
		}
	}
	own := r.WithContext(context.WithValue(r.Context(), encryptedKey{}, from.proto == "https"))
	own.RemoteAddr = net.JoinHostPort(from.from, "0")
	if from.host != "" {
		own.Host = from.host
	}
	return own, nil
}

// hop is what one proxy says of who asked it.
type hop struct{ from, proto, host string }

// elements are those of a Forwarded header (RFC 7239, section 4), the first sender's first. An element that can't be read is one
// without an address, so that no other is taken for it.
func elements(text string) (hops []hop) {
	all, whole := splitQuoted(text, ',')
	if !whole { // what somebody left open would swallow what the proxy says
		return []hop{{}}
	}
	for _, element := range all {
		if strings.TrimSpace(element) == "" {
			continue
		}
		var one hop
		pairs, _ := splitQuoted(element, ';')
		for _, pair := range pairs {
			key, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if strings.HasPrefix(value, `"`) {
				value = unquote(value)
			}
			switch strings.ToLower(key) {
			case "for":
				one.from = bareAddress(value)
			case "proto":
				one.proto = strings.ToLower(value)
			case "host":
				one.host = value
			}
		}
		hops = append(hops, one)
	}
	return hops
}

// splitQuoted splits a text where nothing is quoted (RFC 9110, section 5.6.4); whole says that every quotation ends.
func splitQuoted(text string, at byte) (parts []string, whole bool) {
	from, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch {
		case quoted && text[i] == '\\':
			i++
		case text[i] == '"':
			quoted = !quoted
		case text[i] == at && !quoted:
			parts, from = append(parts, text[from:i]), i+1
		}
	}
	return append(parts, text[from:]), !quoted
}

func unquote(text string) string {
	var b strings.Builder
	for i := 1; i < len(text) && text[i] != '"'; i++ {
		if text[i] == '\\' && i+1 < len(text) {
			i++
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// classicHops reads X-Forwarded-For, to which each proxy adds; what the last proxy says of proto and host is of all of them.
func classicHops(h http.Header) (hops []hop) {
	proto, host := strings.ToLower(last(h.Values("X-Forwarded-Proto"))), last(h.Values("X-Forwarded-Host"))
	for from := range strings.SplitSeq(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		if from = strings.TrimSpace(from); from != "" {
			hops = append(hops, hop{bareAddress(from), proto, host})
		}
	}
	return hops
}

// last is the last word of a header: what the proxy that is believed has said.
func last(values []string) string {
	words := strings.Split(strings.Join(values, ","), ",")
	return strings.TrimSpace(words[len(words)-1])
}

// bareAddress is an address without its port and brackets.
func bareAddress(text string) string {
	if at, err := netip.ParseAddrPort(text); err == nil {
		return at.Addr().String()
	}
	return strings.Trim(text, "[]")
}
