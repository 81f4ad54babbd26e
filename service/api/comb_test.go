package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"testing"

	"ligare/client/shape"
	"ligare/core/comb"
	"ligare/service/records"
)

// Whoever has the tree learns that a secret stands in it, and nothing of any secret from what is handed out.
func TestSecretsAreRecognisedAndNotGivenAway(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	secrets, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{Reason: "what is looked for"})
	if err != nil {
		t.Fatal(err)
	}
	who := w.owner
	got, err := who.Comb(ctx, g.App)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(got)
	if err != nil {
		t.Fatal(err)
	}
	h := &comb.Handout{Table: got.Table, Key: got.Key}
	for _, n := range got.Needles {
		h.Needles = append(h.Needles, comb.Needle{ID: n.ID, Kind: comb.Kind(n.Kind), Say: n.Say, Offset: n.Offset, Length: n.Length, Rolling: n.Rolling, Digest: n.Digest})
	}
	c := comb.New(h)
	for _, s := range secrets {
		var say string
		if err := c.Scan(ctx, strings.NewReader("const key = '"+s.Value+"'\n"), &comb.Buffers{}, func(x comb.Hit) { say = x.Needle.Say }); err != nil {
			t.Fatal(err)
		}
		switch {
		case strings.HasPrefix(s.Value, "tmx-") && !strings.HasPrefix(say, "Messaging key of Thornmill for "+g.App):
			t.Errorf("%s is recognised as %q", s.Name, say)
		case len(s.Value) == 9 && (say != "" || !strings.Contains(string(text), "so short")):
			t.Errorf("nine digits are looked for: %q", say)
		}
		for i := 0; i+6 <= len(s.Value) && len(s.Value) > 9; i++ {
			if i >= 4 && bytes.Contains(text, []byte(s.Value[i:i+6])) {
				t.Errorf("%q stands in what is handed out", s.Value[i:i+6])
			}
		}
	}
	if len(got.Needles) < 2 {
		t.Errorf("the account's credential is a secret, too: %+v", got.Needles)
	}
	again, err := who.Comb(ctx, g.App)
	if err != nil || bytes.Equal(again.Key, got.Key) || !bytes.Equal(again.Table, got.Table) {
		t.Errorf("the key is new every time, the table never: %v", err)
	}
	var entries int
	if err := w.records.DB.QueryRow(ctx, `SELECT count(*) FROM audit WHERE action = 'secrets made recognisable' AND team = (SELECT team FROM registrations WHERE id = $1)`, g.ID).Scan(&entries); err != nil || entries != 2 {
		t.Errorf("%d entries in the audit, %v", entries, err)
	}
	for range records.CombsAnHour {
		if _, err = who.Comb(ctx, g.App); err != nil {
			break
		}
	}
	if status(err) != 429 || remedy(err) == "" {
		t.Errorf("there is no end to asking: %v", err)
	}
	if _, err := w.person(t.Name()+" other", "developer", 0).Comb(ctx, g.App); status(err) != 404 {
		t.Errorf("another team: %v", err)
	}
}
