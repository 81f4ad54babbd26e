package check

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// TestTheReferenceListsTheRules holds docs/reference/rules.md against the rules; LIGARE_UPDATE=1 writes it.
func TestTheReferenceListsTheRules(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Rules\n\nWritten from the rules themselves: `LIGARE_UPDATE=1 go test ./core/check -run Reference`.\n")
	for _, r := range Rules() {
		severity := string(r.Severity)
		if r.Graded != "" {
			severity += "; " + r.Graded
		}
		fmt.Fprintf(&b, "\n## %s\n%s (%s)\n\n- compares %s\n", r.ID, r.Title, severity, r.Compares)
		if needs := r.NeedsSay(); needs != "" {
			fmt.Fprintf(&b, "- needs %s\n", needs)
		}
		if r.By != "" {
			fmt.Fprintf(&b, "- looked at by `ligare %s`\n", r.By)
		}
		mends := "a person"
		if r.Fixes() {
			mends = "`ligare check --fix`, where the finding says so"
		}
		fmt.Fprintf(&b, "- why: %s\n- mend: %s\n- mended by %s\n", r.Why, r.Fix, mends)
	}
	const file = "../../docs/reference/rules.md"
	if os.Getenv("LIGARE_UPDATE") != "" {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(file)
	if err != nil || string(got) != b.String() {
		t.Errorf("%s is not what the rules say (%v); run with LIGARE_UPDATE=1", file, err)
	}
}
