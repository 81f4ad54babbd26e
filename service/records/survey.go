package records

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
)

// maxFacts bounds what one variant may say; a survey has some twenty.
const maxFacts = 200

// SaveSurvey keeps what the last survey of a tree said of its variants. The sites it names are replaced as a whole;
// those of the app's other trees stay.
func (r *Records) SaveSurvey(ctx context.Context, tx pgx.Tx, c Caller, app string, s shape.Survey) error {
	if err := c.Need("developer"); err != nil {
		return err
	}
	a, err := r.app(ctx, tx, c, app)
	if err != nil {
		return err
	}
	var sites []string
	for _, v := range s.Variants {
		if v.Platform != "android" && v.Platform != "ios" || v.Site == "" || v.Variant == "" || len(v.Facts) > maxFacts {
			return fail(BadInput, "Send platform, site, variant and at most 200 facts for each variant.", "a variant of the survey is not complete: %q %q", v.Site, v.Variant)
		}
		sites = append(sites, v.Site)
	}
	if _, err := tx.Exec(ctx, `DELETE FROM variants WHERE team = $1 AND app = $2 AND site = ANY($3)`, c.Team, a.ID, sites); err != nil {
		return err
	}
	for _, v := range s.Variants {
		facts, err := json.Marshal(v.Facts)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO variants (team, app, site, variant, platform, layout, facts, identity, environment)
			VALUES ($1, $2, $3, $4, $5, $6, $7,
				(SELECT id FROM identities WHERE team = $1 AND app = $2 AND platform = $5 AND identifier = $8),
				(SELECT id FROM environments WHERE team = $1 AND app = $2 AND name = $9))
			ON CONFLICT (team, app, site, variant) DO UPDATE SET facts = excluded.facts`, c.Team, a.ID, v.Site, v.Variant, v.Platform, v.Layout, facts, v.Identity, v.Environment)
		if err != nil {
			return err
		}
	}
	return r.emit(ctx, tx, c.Team, "survey", map[string]string{"app": app})
}

// Survey gives what is known of an app's variants.
func (r *Records) Survey(ctx context.Context, c Caller, app string) (*shape.Survey, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT v.platform, v.site, v.variant, v.layout, v.facts, v.reported, coalesce(i.identifier, ''), coalesce(e.name, '')
		FROM variants v LEFT JOIN identities i ON i.team = v.team AND i.id = v.identity LEFT JOIN environments e ON e.team = v.team AND e.id = v.environment
		WHERE v.team = $1 AND v.app = $2 ORDER BY v.platform, v.site, v.variant`, c.Team, a.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := &shape.Survey{Variants: []shape.SurveyedVariant{}}
	for rows.Next() {
		var v shape.SurveyedVariant
		var facts []byte
		var at time.Time
		if err := rows.Scan(&v.Platform, &v.Site, &v.Variant, &v.Layout, &facts, &at, &v.Identity, &v.Environment); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(facts, &v.Facts); err != nil {
			return nil, err
		}
		if out.At == nil || at.After(*out.At) {
			out.At = &at
		}
		out.Variants = append(out.Variants, v)
	}
	return out, rows.Err()
}
