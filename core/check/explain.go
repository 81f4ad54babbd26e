package check

import (
	"bytes"
	_ "embed"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/sheet"
)

// Message is a text that builds and running apps print.
type Message struct {
	Text   string   `yaml:"text" json:"text"`
	Rules  []string `yaml:"rules" json:"rules"`
	Cause  string   `yaml:"cause" json:"cause"`
	Remedy string   `yaml:"remedy" json:"remedy"`
}

//go:embed messages.yaml
var messagesFile []byte

var messages = func() []Message {
	var f struct {
		Messages []Message `yaml:"messages"`
	}
	d := yaml.NewDecoder(bytes.NewReader(messagesFile))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		panic("messages.yaml: " + err.Error()) // shipped with the program and read in every test
	}
	return f.Messages
}()

// Messages gives our own known messages.
func Messages() []Message { return messages }

// Applies says whether a cause holds for a tree.
type Applies string

// The answers to whether a cause holds here.
const (
	Holds    Applies = "holds here"
	Excluded Applies = "does not hold here"
	NotSeen  Applies = "could not be looked at"
)

// Explanation is one cause that a message can have.
type Explanation struct {
	Found    string    `json:"found"`             // the part of the text it was recognised by
	Service  string    `json:"service,omitempty"` // whose message it is
	Cause    string    `json:"cause"`
	Remedy   string    `json:"remedy"`
	Rules    []string  `json:"rules,omitempty"`
	Applies  Applies   `json:"applies"`
	Why      string    `json:"why,omitempty"` // that it could not be looked at
	Findings []Finding `json:"findings"`
}

// widest is how many bytes … in a message may stand for.
const widest = 400

// Explain finds the causes that a pasted text can have: through the services' own messages and ours, those that hold for
// the tree first. result is what a check of the tree found; nil when there is no tree.
func Explain(text string, services []*sheet.Sheet, result *Result) []Explanation {
	text = strings.Join(strings.Fields(text), " ")
	out := []Explanation{}
	for _, s := range services {
		for _, m := range s.Messages {
			found := ""
			switch {
			case m.Text != "":
				found = match(text, m.Text)
			case len(m.Code) >= 4 && hasWord(text, m.Code):
				found = m.Code
			}
			if found == "" {
				continue
			}
			x := Explanation{Found: found, Service: s.Service, Cause: m.Cause, Remedy: m.Remedy, Applies: NotSeen, Why: "the service names the cause itself", Findings: []Finding{}}
			if x.Rules = m.Rules; len(m.Rules) > 0 {
				x.judge(result)
			}
			out = append(out, x)
		}
	}
	for _, m := range messages {
		if found := match(text, m.Text); found != "" {
			x := Explanation{Found: found, Cause: m.Cause, Remedy: m.Remedy, Rules: m.Rules, Findings: []Finding{}}
			x.judge(result)
			out = append(out, x)
		}
	}
	order := map[Applies]int{Holds: 0, NotSeen: 1, Excluded: 2}
	sort.SliceStable(out, func(i, j int) bool {
		if order[out[i].Applies] != order[out[j].Applies] {
			return order[out[i].Applies] < order[out[j].Applies]
		}
		return len(out[i].Found) > len(out[j].Found)
	})
	return out
}

// judge looks whether the cause is among what was found in the tree.
func (x *Explanation) judge(result *Result) {
	if result == nil {
		x.Applies, x.Why = NotSeen, "there is no tree here"
		return
	}
	for _, f := range slices.Concat(result.Findings, result.Standing) {
		if slices.Contains(x.Rules, f.Rule) {
			x.Findings = append(x.Findings, f)
		}
	}
	if len(x.Findings) > 0 {
		x.Applies, x.Why = Holds, ""
		return
	}
	x.Applies, x.Why = Excluded, ""
	for _, n := range result.NotLooked {
		if slices.Contains(x.Rules, n.Rule) {
			x.Applies, x.Why = NotSeen, n.Reason
			return
		}
	}
}

// match finds a message in a text, without regard to capitals; … in the message stands for anything. It gives the part of
// the text that was recognised.
func match(text, message string) string {
	low := strings.ToLower(text)
	if len(low) != len(text) { // letters whose lower case is longer
		text = low
	}
	parts := strings.Split(strings.ToLower(message), "…")
	for from := 0; ; {
		i := strings.Index(low[from:], strings.TrimSpace(parts[0]))
		if i < 0 {
			return ""
		}
		start := from + i
		end, ok := start+len(strings.TrimSpace(parts[0])), true
		for _, p := range parts[1:] {
			p = strings.TrimSpace(p)
			j := strings.Index(low[end:min(len(low), end+widest+len(p))], p)
			if ok = j >= 0; !ok {
				break
			}
			end += j + len(p)
		}
		if ok {
			return text[start:end]
		}
		from = start + 1
	}
}

// hasWord reports whether a code stands in a text by itself, not inside another word.
func hasWord(text, code string) bool {
	inside := func(c byte) bool {
		return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z'
	}
	for from := 0; ; {
		i := strings.Index(text[from:], code)
		if i < 0 {
			return false
		}
		start, end := from+i, from+i+len(code)
		if (start == 0 || !inside(text[start-1])) && (end == len(text) || !inside(text[end])) {
			return true
		}
		from = start + 1
	}
}
