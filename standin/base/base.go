// Package base is what the simulated services share: accounts, a journal of their own data, the registration protocol,
// answers that repeat for a repeated key, and faults that can be switched on. What a service asks for, refuses and issues
// is its own business: it gives Rules. Nothing is shared with the product. Start with Service and Rules.
package base

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	"strings"
)

// Hex gives n random bytes as hexadecimal.
func Hex(n int) string {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system has no randomness
	}
	return hex.EncodeToString(b)
}

// Of gives n random letters out of an alphabet.
func Of(alphabet string, n int) string {
	var b strings.Builder
	for range n {
		i, err := rand.Int(rand.Reader, big.NewInt(int64(len(alphabet))))
		if err != nil {
			panic(err)
		}
		b.WriteByte(alphabet[i.Int64()])
	}
	return b.String()
}

// Digits gives n random digits, the first not 0.
func Digits(n int) string { return Of("123456789", 1) + Of("0123456789", n-1) }

// Digest gives the digest by which a service shows that it has a value, without showing the value.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Write answers with JSON.
func Write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the caller is gone when this fails
}

// Read takes a JSON body of at most 8 MB, which has room for an icon.
func Read(r *http.Request, v any) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 8<<20))
	if err := d.Decode(v); err != nil {
		return fmt.Errorf("the body is not readable: %w", err)
	}
	return nil
}

// Bearer gives the credential of a request.
func Bearer(r *http.Request) string {
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
}
