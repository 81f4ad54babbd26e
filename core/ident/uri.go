package ident

import "strings"

// URI is the parts of a URI (RFC 3986, section 3) that redirects are judged by.
type URI struct {
	Scheme   string // in small letters
	Host     string // without user and port; an IPv6 address in brackets; "" when there is no authority
	Fragment bool   // a # stands in it
}

// SplitURI takes a URI apart; ok is false for a text without a scheme (RFC 3986, section 3.1).
func SplitURI(s string) (u URI, ok bool) {
	scheme, rest, ok := strings.Cut(s, ":")
	if !ok || scheme == "" || strings.IndexFunc(scheme, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '+' || r == '-' || r == '.')
	}) >= 0 || scheme[0] >= '0' && scheme[0] <= '9' || strings.ContainsRune("+-.", rune(scheme[0])) {
		return URI{}, false
	}
	u.Scheme = strings.ToLower(scheme)
	rest, _, u.Fragment = strings.Cut(rest, "#")
	authority, ok := strings.CutPrefix(rest, "//")
	if !ok {
		return u, true
	}
	if i := strings.IndexAny(authority, "/?"); i >= 0 {
		authority = authority[:i]
	}
	authority = authority[strings.LastIndexByte(authority, '@')+1:]
	u.Host = authority
	if strings.HasPrefix(authority, "[") {
		if i := strings.IndexByte(authority, ']'); i >= 0 {
			u.Host = authority[:i+1]
		}
	} else if i := strings.LastIndexByte(authority, ':'); i >= 0 {
		u.Host = authority[:i]
	}
	return u, true
}
