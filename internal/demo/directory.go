package demo

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// The city hall's directory, small: who looks people up, people and their groups.
const (
	hallBase     = "dc=portselwyn,dc=example"
	hallLooker   = "cn=files," + hallBase
	hallPassword = "looks-people-up-5"
)

// hallEntry is an entry of the directory.
type hallEntry struct {
	dn, password string
	attributes   map[string][]string
}

// hallPerson is somebody of the city hall, who signs in as name@portselwyn.example.
func hallPerson(name, password, locked string, groups ...string) hallEntry {
	for i, g := range groups {
		groups[i] = "cn=" + g + ",ou=groups," + hallBase
	}
	return hallEntry{"uid=" + name + ",ou=people," + hallBase, password, map[string][]string{"objectClass": {"person"}, "uid": {name}, "mail": {name + "@portselwyn.example"},
		"entryUUID": {"00000000-0000-4000-8000-" + strings.Repeat("0", 12-len(name)) + name}, "memberOf": groups, "nsAccountLock": {locked}}}
}

var hall = []hallEntry{
	{hallLooker, hallPassword, map[string][]string{"objectClass": {"applicationProcess"}}},
	hallPerson("vera", "harbour-light-903", "FALSE", "surveyors"),
	hallPerson("nils", "canal-lock-keeper-4", "FALSE", "surveyors", "clerks"),
	hallPerson("otto", "left-in-the-spring-1", "TRUE", "surveyors"),
}

// openHall starts the stand-in for the city hall's directory, which answers binds and searches (RFC 4511) and nothing else.
func openHall() (url string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	h := &hallServer{open: map[net.Conn]bool{}}
	h.serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if h.keep(c) {
				h.serving.Go(func() { h.serve(c) })
			}
		}
	})
	return "ldap://" + l.Addr().String(), func() { l.Close(); h.stop(); h.serving.Wait() }, nil
}

type hallServer struct {
	mu      sync.Mutex
	open    map[net.Conn]bool // nil: it has stopped
	serving sync.WaitGroup
}

// maxHall bounds the connections to the stand-in.
const maxHall = 50

func (h *hallServer) keep(c net.Conn) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.open == nil || len(h.open) >= maxHall {
		c.Close()
		return false
	}
	h.open[c] = true
	return true
}

func (h *hallServer) stop() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.open {
		c.Close()
	}
	h.open = nil
}

func (h *hallServer) serve(c net.Conn) {
	defer func() {
		c.Close()
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.open, c)
	}()
	bound := ""
	for {
		c.SetDeadline(time.Now().Add(time.Minute))
		ask, err := ber.ReadPacket(c)
		if err != nil || len(ask.Children) < 2 {
			return
		}
		id, ok := ask.Children[0].Value.(int64)
		op := ask.Children[1]
		if !ok {
			return
		}
		var answers []*ber.Packet
		switch op.Tag {
		case ldap.ApplicationBindRequest:
			code := uint16(ldap.LDAPResultInvalidCredentials)
			if name, ok := hallBind(op); ok {
				bound, code = name, ldap.LDAPResultSuccess
			}
			answers = []*ber.Packet{hallResult(ldap.ApplicationBindResponse, code)}
		case ldap.ApplicationSearchRequest:
			code := uint16(ldap.LDAPResultInsufficientAccessRights)
			if bound == hallLooker && len(op.Children) >= 8 {
				answers, code = hallSearch(op), ldap.LDAPResultSuccess
			}
			answers = append(answers, hallResult(ldap.ApplicationSearchResultDone, code))
		default:
			return
		}
		for _, answer := range answers {
			message := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
			message.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
			message.AppendChild(answer)
			if _, err := c.Write(message.Bytes()); err != nil {
				return
			}
		}
	}
}

func hallText(p *ber.Packet) string { return string(p.ByteValue) }

// hallBind says who binds, when the password is right.
func hallBind(op *ber.Packet) (dn string, ok bool) {
	if len(op.Children) < 3 {
		return "", false
	}
	dn, password := hallText(op.Children[1]), string(op.Children[2].Data.Bytes())
	return dn, password != "" && slices.ContainsFunc(hall, func(e hallEntry) bool { return strings.EqualFold(e.dn, dn) && e.password == password })
}

func hallSearch(op *ber.Packet) (found []*ber.Packet) {
	base := strings.ToLower(hallText(op.Children[0]))
	for _, e := range hall {
		if dn := strings.ToLower(e.dn); dn != base && !strings.HasSuffix(dn, ","+base) || !hallFits(op.Children[6], e) {
			continue
		}
		entry := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
		entry.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, e.dn, ""))
		all := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
		for name, values := range e.attributes {
			one := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
			one.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, name, ""))
			set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
			for _, v := range values {
				set.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, v, ""))
			}
			one.AppendChild(set)
			all.AppendChild(one)
		}
		entry.AppendChild(all)
		found = append(found, entry)
	}
	return found
}

// hallFits knows filters of and, or, equality and presence.
func hallFits(filter *ber.Packet, e hallEntry) bool {
	each := func(p *ber.Packet) bool { return hallFits(p, e) }
	values := func(name string) []string {
		for known, values := range e.attributes {
			if strings.EqualFold(known, name) {
				return values
			}
		}
		return nil
	}
	switch {
	case filter.Tag == ldap.FilterAnd:
		return !slices.ContainsFunc(filter.Children, func(p *ber.Packet) bool { return !each(p) })
	case filter.Tag == ldap.FilterOr:
		return slices.ContainsFunc(filter.Children, each)
	case filter.Tag == ldap.FilterEqualityMatch && len(filter.Children) == 2:
		return slices.ContainsFunc(values(hallText(filter.Children[0])), func(v string) bool { return strings.EqualFold(v, hallText(filter.Children[1])) })
	case filter.Tag == ldap.FilterPresent:
		return values(string(filter.Data.Bytes())) != nil
	}
	return false
}

func hallResult(tag ber.Tag, code uint16) *ber.Packet {
	result := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	result.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), ""))
	result.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
	result.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
	return result
}

// askHall has the city hall's people sign in by its directory.
func (c *city) askHall(ctx context.Context, s *service.Service, url string) error {
	ilse := office.Actor{Operator: "ilse", Role: keep.Owner, Address: "127.0.0.1", Protocol: keep.Console}
	_, err := s.Office.SetSource(ctx, ilse, "city-hall", true, func(now *keep.Source) error {
		*now = keep.Source{Name: "city-hall", Kind: keep.DirectoryKind, Note: "who works at the city hall (a stand-in)", Servers: []string{url}, Plain: true, BindAs: hallLooker, Secret: hallPassword,
			Base: "ou=people," + hallBase, Suffix: "@portselwyn.example", Makes: true, Table: []keep.GroupRow{{Theirs: "surveyors", Ours: "surveyors"}}, Away: keep.AwayRecent}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = s.Office.SetRoutes(ctx, ilse, func([]keep.Route) ([]keep.Route, error) {
		return []keep.Route{{Pattern: "*@portselwyn.example", Sources: []string{"city-hall"}}}, nil
	})
	for _, e := range hall {
		if name := e.attributes["uid"]; name != nil && e.attributes["nsAccountLock"][0] == "FALSE" {
			c.papers.Directory = append(c.papers.Directory, map[string]string{"account": name[0] + "@portselwyn.example", "password": e.password})
		}
	}
	return errors.Join(err, c.save())
}
