package records

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/cert"
	"ligare/core/sheet"
)

// SaveSigner adds a signer by its certificate and says which apps' builds it signs; the same certificate again only
// updates what is said about it. The answer lists the services that need its digest.
func (r *Records) SaveSigner(ctx context.Context, tx pgx.Tx, c Caller, n shape.NewSigner) (*shape.Signer, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	x, err := x509.ParseCertificate(n.Certificate)
	if err != nil {
		return nil, fail(BadInput, "Send the certificate in DER.", "not a certificate: %v", err)
	}
	switch n.Role {
	case "debug", "upload", "release", "store":
	default:
		return nil, fail(BadInput, "Use debug, upload, release or store.", "a signer cannot have the role %q", n.Role)
	}
	d := cert.Of(x)
	var had []string
	rows, err := tx.Query(ctx, `SELECT encode(sha256, 'hex') FROM signers WHERE team = $1 AND name = $2 AND sha256 <> decode($3, 'hex')`, c.Team, n.Name, d.SHA256Hex)
	if err != nil {
		return nil, err
	}
	if had, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
		return nil, err
	}
	if len(had) > 0 && !n.Replace && n.Role != "debug" {
		return nil, fail(Clash, "Give the new one another name with --name, or say that it takes the old one's place with --replace.", "there is a signer %q with another certificate (SHA-256 %s)", n.Name, had[0])
	}
	var id uuid.UUID
	err = tx.QueryRow(ctx, `INSERT INTO signers (team, id, name, role, owner, machine, subject, not_after, certificate, sha256) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, decode($10, 'hex'))
		ON CONFLICT (team, sha256) DO UPDATE SET name = excluded.name, role = excluded.role, owner = excluded.owner, machine = excluded.machine RETURNING id`,
		c.Team, uuid.Must(uuid.NewV7()), n.Name, n.Role, n.Owner, n.Machine, x.Subject.String(), x.NotAfter, n.Certificate, d.SHA256Hex).Scan(&id)
	if err != nil {
		return nil, err
	}
	if len(had) > 0 { // a machine has one debug keystore: it was made anew, and signs what the old one signed
		if _, err := tx.Exec(ctx, `INSERT INTO identity_signers (team, identity, signer) SELECT l.team, l.identity, $3 FROM identity_signers l JOIN signers s ON s.team = l.team AND s.id = l.signer
			WHERE s.team = $1 AND s.name = $2 AND s.id <> $3 ON CONFLICT DO NOTHING`, c.Team, n.Name, id); err != nil {
			return nil, err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM signers WHERE team = $1 AND name = $2 AND id <> $3`, c.Team, n.Name, id); err != nil {
			return nil, err
		}
	}
	if n.App != "" {
		if err := r.signs(ctx, tx, c, id, n); err != nil {
			return nil, err
		}
	}
	if err := r.audit(ctx, tx, c, "signer saved", n.Name, map[string]string{"role": n.Role, "sha256": d.SHA256Hex, "app": n.App, "replaced": strings.Join(had, " ")}); err != nil {
		return nil, err
	}
	if err := r.emit(ctx, tx, c.Team, "signer", map[string]string{"app": n.App}); err != nil {
		return nil, err
	}
	list, err := r.signers(ctx, tx, c, "", id.String())
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}

// signs links a signer to Android identities of an app: those named, else all.
func (r *Records) signs(ctx context.Context, tx pgx.Tx, c Caller, signer uuid.UUID, n shape.NewSigner) error {
	app, err := r.app(ctx, tx, c, n.App)
	if err != nil {
		return err
	}
	var known []string
	for _, i := range app.Identities {
		if i.Platform != "android" {
			continue
		}
		known = append(known, i.Identifier)
		if len(n.Identities) > 0 && !slices.Contains(n.Identities, i.Identifier) {
			continue
		}
		if _, err := tx.Exec(ctx, `INSERT INTO identity_signers (team, identity, signer) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, c.Team, i.ID, signer); err != nil {
			return err
		}
	}
	for _, want := range n.Identities {
		if !slices.Contains(known, want) {
			return fail(BadInput, "Use one of: "+strings.Join(known, ", ")+".", "%s has no Android identity %q", n.App, want)
		}
	}
	return nil
}

// Signers gives the team's signers, or those of one app.
func (r *Records) Signers(ctx context.Context, c Caller, app string) ([]shape.Signer, error) {
	return r.signers(ctx, r.DB, c, app, "")
}

func (r *Records) signers(ctx context.Context, q querier, c Caller, app, id string) ([]shape.Signer, error) {
	rows, err := q.Query(ctx, `SELECT s.id, s.name, s.role, s.owner, s.machine, s.certificate,
		coalesce((SELECT json_agg(json_build_object('id', i.id, 'app', a.name, 'platform', i.platform, 'identifier', i.identifier) ORDER BY a.name, i.identifier)
			FROM identity_signers l JOIN identities i ON i.team = l.team AND i.id = l.identity JOIN apps a ON a.team = i.team AND a.id = i.app
			WHERE l.team = s.team AND l.signer = s.id), '[]')
		FROM signers s WHERE s.team = $1 AND ($2 = '' OR s.id::text = $2)
		AND ($3 = '' OR EXISTS (SELECT 1 FROM identity_signers l JOIN identities i ON i.team = l.team AND i.id = l.identity JOIN apps a ON a.team = i.team AND a.id = i.app
			WHERE l.team = s.team AND l.signer = s.id AND a.name = $3)) ORDER BY s.role, s.name`, c.Team, id, app)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []shape.Signer{}
	for rows.Next() {
		var s shape.Signer
		var der, ids []byte
		if err := rows.Scan(&s.ID, &s.Name, &s.Role, &s.Owner, &s.Machine, &der, &ids); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(ids, &s.Identities); err != nil {
			return nil, err
		}
		x, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, err
		}
		s.Subject, s.NotBefore, s.NotAfter, s.Digests = x.Subject.String(), x.NotBefore, x.NotAfter, cert.Of(x)
		s.Key, s.Bits = cert.Key(x)
		s.Algorithm, s.Warnings = x.SignatureAlgorithm.String(), cert.Warnings(x, time.Now())
		out = append(out, s)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	for i := range out {
		if out[i].Needs, err = r.needs(ctx, q, c, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// needs lists the registrations whose service asks for the digest of the certificate that signs an identity, and
// whether this one is registered there.
func (r *Records) needs(ctx context.Context, q querier, c Caller, s *shape.Signer) ([]shape.SignerNeed, error) {
	out := []shape.SignerNeed{}
	digests, ok := s.Digests.(cert.Digests)
	if !ok {
		return out, nil
	}
	for _, i := range s.Identities {
		rows, err := q.Query(ctx, `SELECT g.service, g.environment, g.features, ri.answers, ri.digests FROM registration_identities ri
			JOIN registrations g ON g.team = ri.team AND g.id = ri.registration
			WHERE ri.team = $1 AND ri.identity = $2 ORDER BY g.service, 2`, c.Team, i.ID)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			n := shape.SignerNeed{App: i.App, Identifier: i.Identifier}
			var features, told []string
			var raw []byte
			if err := rows.Scan(&n.Service, &n.Environment, &features, &raw, &told); err != nil {
				rows.Close()
				return nil, err
			}
			var answers map[string]string
			if err := json.Unmarshal(raw, &answers); err != nil {
				rows.Close()
				return nil, err
			}
			sh, err := r.sheetOf(ctx, c.Team, n.Service)
			if err != nil {
				rows.Close()
				return nil, err
			}
			for _, a := range sh.Asks {
				out = append(out, need(n, sh, a, features, slices.Concat(told, []string{answers[a.ID]}), digests)...)
			}
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// need says whether one question of a sheet wants a signer's digest.
func need(n shape.SignerNeed, s *sheet.Sheet, a sheet.Ask, features, told []string, d cert.Digests) []shape.SignerNeed {
	form, ok := strings.CutPrefix(a.From, "signer.")
	if !ok || a.Platform != "" && a.Platform != "android" {
		return nil
	}
	n.Title, n.Form, n.Value = s.Title, form, d.Form(form)
	n.Registered = slices.ContainsFunc(told, func(t string) bool {
		return t != "" && cert.Explain(t, form, nil).Hex == cert.Explain(n.Value, form, nil).Hex
	})
	if a.When != "" && !slices.Contains(features, a.When) {
		n.Feature = a.When // wanted only once this is switched on
	}
	return []shape.SignerNeed{n}
}
