package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/catalogue"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

func (r *Records) sells(s *sheet.Sheet) error {
	if s.Catalogue == nil {
		return fail(BadInput, "Its sheet would say what is sold.", "%s has no catalogue", s.Title)
	}
	return nil
}

// Catalogue gives what shall be sold beside what the service has.
func (r *Records) Catalogue(ctx context.Context, c Caller, id string) (*shape.Catalogue, error) {
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return nil, err
	}
	if err := r.sells(s); err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT product, kind, title, subscription_group, price, active FROM catalogue_items WHERE team = $1 AND registration = $2`, c.Team, g.id)
	if err != nil {
		return nil, err
	}
	wanted, err := pgx.CollectRows(rows, pgx.RowToStructByPos[catalogue.Item])
	if err != nil {
		return nil, err
	}
	var there []catalogue.Item
	if !s.ByHand() {
		remote, _, err := r.remote(ctx, c.Team, s)
		if err == nil {
			err = r.opened(c, g, remote)
		}
		if err != nil {
			return nil, err
		}
		list, err := registrar.To(remote).Catalogue(ctx, g.remote)
		if err != nil {
			return nil, explain(s, err)
		}
		for _, i := range list {
			there = append(there, catalogue.Item{Product: i.Product, Kind: i.Kind, Title: i.Title, Group: i.Group, Price: i.Price, Active: i.Active})
		}
	} else {
		there = wanted // nobody can ask; the list is what counts
	}
	out := &shape.Catalogue{Items: []shape.CatalogueLine{}, Problems: catalogue.Judge(s.Catalogue, wanted), Agrees: true}
	for _, d := range catalogue.Compare(wanted, there) {
		out.Items = append(out.Items, shape.CatalogueLine{Product: d.Product, Wanted: item(d.Wanted), There: item(d.There), Say: d.Say})
		out.Agrees = out.Agrees && d.Say == catalogue.Agrees
	}
	return out, nil
}

func item(i *catalogue.Item) *shape.Item {
	if i == nil {
		return nil
	}
	return &shape.Item{Product: i.Product, Kind: i.Kind, Title: i.Title, Group: i.Group, Price: i.Price, Active: i.Active}
}

// SaveCatalogue keeps what shall be sold, and with Send brings the service to it: items are added, changed and activated;
// one that the service has beyond the list is left alone and said.
func (r *Records) SaveCatalogue(ctx context.Context, c Caller, id string, in shape.NewCatalogue) (*shape.Catalogue, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := r.sells(s); err != nil {
		return nil, err
	}
	if len(in.Items) > 2000 {
		return nil, fail(BadInput, "Send at most 2000.", "%d items are too many at once", len(in.Items))
	}
	var list []catalogue.Item
	for _, i := range in.Items {
		if i.Title == "" {
			i.Title = i.Product
		}
		list = append(list, catalogue.Item{Product: i.Product, Kind: i.Kind, Title: i.Title, Group: i.Group, Price: i.Price, Active: i.Active})
	}
	if problems := catalogue.Judge(s.Catalogue, list); len(problems) > 0 {
		return nil, fail(BadInput, "Correct the list; nothing was kept or sent.", "%s", joinWith(problems, "; "))
	}
	b := &pgx.Batch{}
	b.Queue(`DELETE FROM catalogue_items WHERE team = $1 AND registration = $2`, c.Team, g.id)
	for _, i := range list {
		b.Queue(`INSERT INTO catalogue_items (team, registration, product, kind, title, subscription_group, price, active) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, c.Team, g.id, i.Product, i.Kind, i.Title, i.Group, i.Price, i.Active)
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if err := tx.SendBatch(ctx, b).Close(); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, "catalogue saved", g.appName+" at "+g.service, in.Items); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "registration", map[string]string{"app": g.appName, "service": g.service})
	})
	if err != nil {
		return nil, err
	}
	if in.Send && !s.ByHand() {
		if err := r.send(ctx, registrar.To(remote), g.remote, list); err != nil {
			return nil, explain(s, err)
		}
	}
	return r.Catalogue(ctx, c, id)
}

// send brings the service's catalogue to a list. Saving an item again changes nothing, so that a run that was stopped is
// simply run again.
func (r *Records) send(ctx context.Context, s registrar.Service, remote string, list []catalogue.Item) error {
	have, err := s.Catalogue(ctx, remote)
	if err != nil {
		return err
	}
	there := map[string]registrar.Item{}
	for _, i := range have {
		there[i.Product] = i
	}
	for _, i := range list {
		want := registrar.Item{Product: i.Product, Kind: i.Kind, Title: i.Title, Group: i.Group, Price: i.Price, Active: there[i.Product].Active}
		if there[i.Product] != want {
			if err := s.SaveItem(ctx, remote, want); err != nil {
				return err
			}
		}
		if there[i.Product].Active != i.Active {
			if err := s.Activate(ctx, remote, i.Product, i.Active); err != nil {
				return err
			}
		}
	}
	return nil
}

func joinWith(list []string, glue string) string {
	out := ""
	for i, s := range list {
		if i > 0 {
			out += glue
		}
		out += s
	}
	return out
}
