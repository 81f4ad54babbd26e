package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/job"
)

func catalogueCommand() *cli.Command {
	return command(&cli.Command{
		Name: "catalogue", Usage: "what is sold in the app: compare it with the service, and bring the service to it", ArgsUsage: "SERVICE",
		Description: "Items come from a YAML or JSON file (--file), or are typed (--item \"PRODUCT KIND PRICE [GROUP] [TITLE]\"). Without\neither, the list that is kept is compared with what the service has. --send adds, changes and activates there.",
		Flags: whichFlags(
			&cli.StringFlag{Name: "file", Usage: "items: [{product, kind, title, group, price, active}]; - reads standard input"},
			&cli.StringSliceFlag{Name: "item", Usage: "an item to add to the list: product=ID kind=KIND price=\"2.50 EUR\" group=NAME title=TITLE, with ; between"},
			&cli.BoolFlag{Name: "send", Usage: "bring the service to the list"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			now, err := s.Catalogue(ctx, g.ID)
			if err != nil {
				return err
			}
			items, changed, err := itemsWanted(c, now)
			if err != nil {
				return err
			}
			if changed || c.Bool("send") {
				if now, err = s.SaveCatalogue(ctx, g.ID, shape.NewCatalogue{Items: items, Send: c.Bool("send")}); err != nil {
					return err
				}
			}
			if err := output(c, now, func(out io.Writer) { showCatalogue(out, now) }); err != nil {
				return err
			}
			if !now.Agrees {
				return errFound
			}
			return nil
		}),
	})
}

// itemsWanted gives the list as it shall be: from a file, or what is kept with the typed items added.
func itemsWanted(c *cli.Command, now *shape.Catalogue) (items []shape.Item, changed bool, err error) {
	for _, l := range now.Items {
		if l.Wanted != nil {
			items = append(items, *l.Wanted)
		}
	}
	if f := c.String("file"); f != "" {
		b, err := readInput(f)
		if err != nil {
			return nil, false, err
		}
		if items, err = job.ReadItems(f, b); err != nil {
			return nil, false, err
		}
		changed = true
	}
	for _, text := range c.StringSlice("item") {
		if items, err = job.AddItem(items, text); err != nil {
			return nil, false, err
		}
		changed = true
	}
	return items, changed, nil
}

func showCatalogue(out io.Writer, k *shape.Catalogue) {
	if len(k.Items) == 0 {
		fmt.Fprintln(out, "Nothing is sold yet. Name items with --file or --item.")
	}
	rows := [][]string{}
	if len(k.Items) > 0 {
		rows = append(rows, []string{"PRODUCT", "KIND", "PRICE", "GROUP", "STANDS"})
	}
	for _, l := range k.Items {
		i := l.Wanted
		if i == nil {
			i = l.There
		}
		rows = append(rows, []string{l.Product, i.Kind, i.Price, i.Group, l.Say})
	}
	table(out, rows)
	for _, p := range k.Problems {
		fmt.Fprintln(out, "  problem:", p)
	}
	if !k.Agrees {
		fmt.Fprintln(out, "  next: bring the service to the list with --send")
	}
}

func builderCommand() *cli.Command {
	return command(&cli.Command{
		Name: "builder", Usage: "a hosted builder's fields, with what belongs there, and its builds", ArgsUsage: "SERVICE",
		Flags: whichFlags(&cli.StringSliceFlag{Name: "set", Usage: "FIELD=VALUE to type"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			set, err := pairs(c, "set")
			if err != nil {
				return err
			}
			for field, v := range set {
				if _, err := s.SetField(ctx, g.ID, field, v); err != nil {
					return err
				}
			}
			b, err := s.Builder(ctx, g.ID)
			if err != nil {
				return err
			}
			return output(c, b, func(out io.Writer) { showBuilder(out, b) })
		}),
	})
}

func showBuilder(out io.Writer, b *shape.Builder) {
	rows := [][]string{{"FIELD", "WHERE", "VALUE", "BELONGS THERE", ""}}
	for _, f := range b.Fields {
		rows = append(rows, []string{f.ID, strings.TrimPrefix(f.Group+": "+f.Title, ": "), f.Value, f.Belongs, f.Say})
	}
	table(out, rows)
	rows = [][]string{}
	for _, x := range b.Builds {
		old := "holds what the fields say now"
		if len(x.Old) > 0 {
			old = "built before " + strings.Join(x.Old, ", ") + " changed"
		}
		rows = append(rows, []string{"  " + x.At.Local().Format("2006-01-02 15:04"), x.Platform, x.Identifier, old})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "No builds yet.")
	} else {
		fmt.Fprintln(out, "Builds:")
		table(out, rows)
	}
	if b.Stale {
		fmt.Fprintln(out, "  next: build again; no build holds what the fields say now")
	}
}
