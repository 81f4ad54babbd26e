// Command ligared keeps the records: apps, services, registrations, sightings. `local` is a developer's own, with a private
// PostgreSQL; `serve` is for a team with a PostgreSQL of its own; `demo` shows the whole on invented data.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/service/api"
	"ligare/service/keyring"
	"ligare/service/server"
	"ligare/service/store"
)

var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cli.Command{
		Name: "ligared", Usage: "keep the records of apps and the services they use", Version: version, HideHelpCommand: true,
		Commands: []*cli.Command{localCommand(), serveCommand(), demoCommand(), migrateCommand(), tokenCommand(), rotateCommand()},
	}
	if err := root.Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "ligared:", err)
		os.Exit(2)
	}
}

// logger writes structured lines to standard error; it never gets a value that is a secret.
func logger(quiet bool) *slog.Logger {
	level := slog.LevelInfo
	if quiet {
		level = slog.LevelWarn
	}
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
}

func teamFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "database", Usage: "address of the PostgreSQL database", Required: true, Sources: cli.EnvVars("LIGARE_DATABASE")},
		&cli.StringFlag{Name: "keyring", Usage: "file that holds the keys for encryption at rest", Required: true, Sources: cli.EnvVars("LIGARE_KEYRING")},
	}
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "serve a team from a PostgreSQL of its own",
		Flags: append(teamFlags(),
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7400", Usage: "address to listen on; put a proxy with TLS in front of it"},
			&cli.IntFlag{Name: "largest-package", Value: api.LargestPackage >> 20, Usage: "how large a built package may be that is handed in, in megabytes"},
			&cli.DurationFlag{Name: "look-every", Value: 30 * time.Second, Usage: "how often services are asked what they have seen"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server.Open(ctx, server.Config{Database: c.String("database"), Keyring: c.String("keyring"), Every: c.Duration("look-every"), Largest: int64(c.Int("largest-package")) << 20, Log: logger(false)})
			if err != nil {
				return err
			}
			l, err := listen(c.String("listen"))
			if err != nil {
				return err
			}
			fmt.Printf("Serving on http://%s\n", l.Addr())
			return s.Serve(ctx, l)
		},
	}
}

func migrateCommand() *cli.Command {
	return &cli.Command{
		Name: "migrate", Usage: "bring a database's schema up to date (serve does it too)",
		Flags: teamFlags()[:1],
		Action: func(ctx context.Context, c *cli.Command) error {
			pool, err := store.Open(ctx, c.String("database"))
			if err != nil {
				return err
			}
			defer pool.Close()
			return store.Migrate(ctx, pool, logger(false))
		},
	}
}

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "make a token for a person of a team; a new team is made with its first person",
		Flags: append(teamFlags(),
			&cli.StringFlag{Name: "team", Required: true, Usage: "the team's name"},
			&cli.StringFlag{Name: "person", Required: true, Usage: "the person's name"},
			&cli.StringFlag{Name: "role", Value: "developer", Usage: "reader, developer or owner"},
			&cli.DurationFlag{Name: "lasting", Value: 90 * 24 * time.Hour, Usage: "how long it is valid"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server.Open(ctx, server.Config{Database: c.String("database"), Keyring: c.String("keyring"), Log: logger(true)})
			if err != nil {
				return err
			}
			defer s.Records.DB.Close()
			token, err := s.Records.Team(ctx, c.String("team"), c.String("person"), c.String("role"), c.Duration("lasting"))
			if err != nil {
				return err
			}
			fmt.Println(token)
			return nil
		},
	}
}

func rotateCommand() *cli.Command {
	return &cli.Command{
		Name: "rotate-keys", Usage: "add a key to the keyring and seal with it from now on; restart the server afterwards",
		Flags: teamFlags()[1:],
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := keyring.Rotate(c.String("keyring")); err != nil {
				return err
			}
			fmt.Println("A new key seals from now on; older keys still open what they sealed. Back the keyring up.")
			return nil
		},
	}
}
