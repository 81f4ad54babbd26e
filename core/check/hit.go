package check

import "ligare/core/comb"

// OfHit says what was found, and never the thing itself.
func OfHit(h comb.Hit) Finding {
	how := ""
	if h.Encoding != "plain" {
		how = ", in " + h.Encoding
	}
	switch h.Kind {
	case comb.PrivateKey:
		return Finding{Rule: "private-key-in-tree", Message: "A private key begins here"}
	case comb.TestKey:
		return Finding{Rule: "test-key-in-tree", Message: "The " + h.Needle.Say + " stands here" + how}
	}
	return Finding{Rule: "secret-in-tree", Message: "The " + h.Needle.Say + " stands here" + how}
}
