package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
)

// Endpoint is where a developer's own server is, as it writes it down for the command line.
type Endpoint struct {
	Address string `json:"address"`
	Token   string `json:"token"`
	PID     int    `json:"pid"`
}

// Home gives the folder of a developer's own server: LIGARE_HOME, else the user's data folder; for root a system folder,
// because the database's user must be able to enter it.
func Home() (string, error) {
	if h := os.Getenv("LIGARE_HOME"); h != "" {
		return filepath.Abs(h)
	}
	if runtime.GOOS == "linux" && os.Geteuid() == 0 {
		return "/var/lib/ligare", nil
	}
	if h := os.Getenv("XDG_DATA_HOME"); h != "" {
		return filepath.Join(h, "ligare"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(home, "Library", "Application Support", "ligare"), nil
	case "windows":
		if d := os.Getenv("LOCALAPPDATA"); d != "" {
			return filepath.Join(d, "ligare"), nil
		}
	}
	return filepath.Join(home, ".local", "share", "ligare"), nil
}

func endpointFile(home string) string { return filepath.Join(home, "endpoint.json") }

// SaveEndpoint writes the endpoint for this user alone.
func SaveEndpoint(home string, e Endpoint) error {
	b, err := json.MarshalIndent(e, "", "  ")
	if err != nil {
		return err
	}
	tmp := endpointFile(home) + ".new"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, endpointFile(home))
}

// LoadEndpoint reads the endpoint.
func LoadEndpoint(home string) (Endpoint, error) {
	var e Endpoint
	b, err := os.ReadFile(endpointFile(home))
	if err != nil {
		return e, err
	}
	return e, json.Unmarshal(b, &e)
}

// ErrNoServer is returned when no server is named and none of the developer's own was ever started.
var ErrNoServer = errors.New("no server is known")

// Find finds the server: the address and token given (flags or environment), else the one the tree names with a token
// from the environment, else the developer's own.
func Find(server, token, treeServer string) (*Client, error) {
	if server == "" {
		server = treeServer
	}
	if server != "" && token != "" {
		return &Client{Address: server, Token: token}, nil
	}
	home, err := Home()
	if err != nil {
		return nil, err
	}
	e, err := LoadEndpoint(home)
	if errors.Is(err, fs.ErrNotExist) {
		if server != "" {
			return nil, fmt.Errorf("a token for %s is needed: set LIGARE_TOKEN", server)
		}
		return nil, ErrNoServer
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", endpointFile(home), err)
	}
	if server != "" && server != e.Address {
		return nil, fmt.Errorf("a token for %s is needed: set LIGARE_TOKEN", server)
	}
	if token != "" {
		e.Token = token
	}
	return &Client{Address: e.Address, Token: e.Token}, nil
}
