package records

import (
	"context"
	"errors"
	"strings"

	"urbankeep/internal/keep"
)

type listenerRow struct {
	Name               string `db:"name"`
	Protocol           string `db:"protocol"`
	Address            string `db:"address"`
	Stopped            bool   `db:"stopped"`
	Encryption         string `db:"encryption"`
	Banner             string `db:"banner"`
	Welcome            string `db:"welcome"`
	Allow              string `db:"allow"`
	Deny               string `db:"deny"`
	PassiveLow         int    `db:"passive_low"`
	PassiveHigh        int    `db:"passive_high"`
	Advertise          string `db:"advertise"`
	NoActive           bool   `db:"no_active"`
	ResumeData         bool   `db:"resume_data"`
	ClientCertificates bool   `db:"client_certificates"`
	Proxies            string `db:"proxies"`
	Certificate        string `db:"certificate"`
	Faces              string `db:"faces"`
	Hosts              string `db:"hosts"`
	Redirect           string `db:"redirect"`
	Forwarding         string `db:"forwarding"`
}

// Listeners reads all listeners, by name.
func (db *DB) Listeners(ctx context.Context) ([]keep.Listener, error) {
	var rows []listenerRow
	if err := db.read.SelectContext(ctx, &rows, "SELECT * FROM listener ORDER BY name"); err != nil {
		return nil, err
	}
	found := make([]keep.Listener, len(rows))
	for i, r := range rows {
		allow, err1 := keep.ParseNetworks("allow", r.Allow)
		deny, err2 := keep.ParseNetworks("deny", r.Deny)
		proxies, err3 := keep.ParseNetworks("proxies", r.Proxies)
		if err := errors.Join(err1, err2, err3); err != nil {
			return nil, err
		}
		found[i] = keep.Listener{Name: r.Name, Protocol: keep.Protocol(r.Protocol), Address: r.Address, Stopped: r.Stopped,
			Encryption: keep.Encryption(r.Encryption), Banner: r.Banner, Welcome: r.Welcome, Allow: allow, Deny: deny,
			PassiveLow: r.PassiveLow, PassiveHigh: r.PassiveHigh, Advertise: r.Advertise, NoActive: r.NoActive, ResumeData: r.ResumeData,
			ClientCertificates: r.ClientCertificates, Proxies: proxies, Certificate: r.Certificate, Hosts: words(r.Hosts), Redirect: r.Redirect, Forwarded: keep.Forwarding(r.Forwarding)}
		for _, face := range words(r.Faces) {
			found[i].Faces = append(found[i].Faces, keep.Face(face))
		}
	}
	return found, nil
}

// SaveListener writes a listener, new or changed.
func (db *DB) SaveListener(ctx context.Context, l keep.Listener) error {
	_, err := db.to(ctx).NamedExecContext(ctx, `INSERT OR REPLACE INTO listener (name, protocol, address, stopped, encryption, banner, welcome, allow, deny,
			passive_low, passive_high, advertise, no_active, resume_data, client_certificates, proxies, certificate, faces, hosts, redirect, forwarding)
		VALUES (:name, :protocol, :address, :stopped, :encryption, :banner, :welcome, :allow, :deny,
			:passive_low, :passive_high, :advertise, :no_active, :resume_data, :client_certificates, :proxies, :certificate, :faces, :hosts, :redirect, :forwarding)`,
		listenerRow{l.Name, string(l.Protocol), l.Address, l.Stopped, string(l.Encryption), l.Banner, l.Welcome, l.Allow.String(), l.Deny.String(),
			l.PassiveLow, l.PassiveHigh, l.Advertise, l.NoActive, l.ResumeData, l.ClientCertificates, l.Proxies.String(), l.Certificate, joinFaces(l.Faces), strings.Join(l.Hosts, ","), l.Redirect, string(l.Forwarded)})
	return err
}

// DeleteListener removes a listener.
func (db *DB) DeleteListener(ctx context.Context, name string) error {
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM listener WHERE name = ?", name))
}

// words are the parts of a list that is kept as text.
func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' })
}

func joinFaces(faces []keep.Face) string {
	list := make([]string, len(faces))
	for i, face := range faces {
		list[i] = string(face)
	}
	return strings.Join(list, ",")
}
