package cluster

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ligare-cluster-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(dir); err != nil {
			t.Error(err)
		}
	})
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestRecordsOutliveTheServer(t *testing.T) {
	dir := filepath.Join(folder(t), "pg")
	ctx := context.Background()
	for run := range 2 {
		c, err := Start(ctx, dir)
		if err != nil {
			t.Fatal(err)
		}
		conn, err := pgx.Connect(ctx, c.URL)
		if err != nil {
			t.Fatal(err)
		}
		if run == 0 {
			_, err = conn.Exec(ctx, "CREATE TABLE kept (n int); INSERT INTO kept VALUES (7)")
		} else {
			var n int
			if err = conn.QueryRow(ctx, "SELECT n FROM kept").Scan(&n); n != 7 {
				t.Errorf("kept %d", n)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := conn.Close(ctx); err != nil {
			t.Fatal(err)
		}
		wrong := strings.Replace(c.URL, "ligare:", "ligare:x", 1)
		if bad, err := pgx.Connect(ctx, wrong); err == nil {
			t.Error("a wrong password was let in")
			_ = bad.Close(ctx)
		}
		c.Stop()
		if _, err := pgx.Connect(ctx, c.URL); err == nil {
			t.Error("it still answers after Stop")
		}
	}
}

func TestAnotherMajorVersionIsRefusedWithTheWayOut(t *testing.T) {
	dir := filepath.Join(folder(t), "pg")
	if err := os.MkdirAll(filepath.Join(dir, "data"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "data", "PG_VERSION"), []byte("9\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), dir); err == nil || !strings.Contains(err.Error(), "PostgreSQL 9") || !strings.Contains(err.Error(), "install postgresql-9") {
		t.Errorf("%v", err)
	}
}

func TestAFolderNobodyMayEnter(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root's database runs as somebody else")
	}
	dir := filepath.Join(folder(t), "closed")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), filepath.Join(dir, "pg")); err == nil || !strings.Contains(err.Error(), "LIGARE_HOME") {
		t.Errorf("%v", err)
	}
}
