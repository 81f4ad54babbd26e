package base

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
)

// Journal keeps a service's data in a file of lines: every change is appended and on the disk before it is answered, and
// the file is written anew when it is opened. A last line that was cut off by a crash was never answered and is dropped.
type Journal struct {
	mu   sync.Mutex
	file *os.File
	Data Data
}

// Data is everything a service knows.
type Data struct {
	Accounts      map[string]*Account      // by credential
	Registrations map[string]*Registration // by ID
	Answers       map[string]Kept          // by account and idempotency key
	Papers        map[string]string        // whatever else the service keeps
}

// Account is somebody's standing with the service.
type Account struct{ ID, Name, Credential string }

// Kept is an answer that is given again for the same key.
type Kept struct {
	Status int
	Body   json.RawMessage
}

// entry is one line of the file.
type entry struct {
	Account      *Account      `json:",omitempty"`
	Registration *Registration `json:",omitempty"`
	Removed      string        `json:",omitempty"`
	Key          string        `json:",omitempty"`
	Kept         *Kept         `json:",omitempty"`
	Paper        string        `json:",omitempty"`
	Text         string        `json:",omitempty"`
}

// OpenJournal reads the file, or begins with empty data.
func OpenJournal(file string) (*Journal, error) {
	j := &Journal{Data: Data{Accounts: map[string]*Account{}, Registrations: map[string]*Registration{}, Answers: map[string]Kept{}, Papers: map[string]string{}}}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	old, err := os.Open(file)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	if err == nil {
		err = j.read(old)
		if err = errors.Join(err, old.Close()); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	if j.file, err = os.OpenFile(file+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
		return nil, err
	}
	for _, e := range j.all() {
		if err := j.write(e); err != nil {
			return nil, err
		}
	}
	return j, os.Rename(file+".new", file)
}

func (j *Journal) read(from io.Reader) error {
	r := bufio.NewReaderSize(from, 1<<16)
	for {
		line, err := r.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil // a line without an end was cut off
		}
		if err != nil {
			return err
		}
		var e entry
		if err := json.Unmarshal(line, &e); err != nil {
			return err
		}
		j.take(e)
	}
}

func (j *Journal) take(e entry) {
	switch {
	case e.Account != nil:
		j.Data.Accounts[e.Account.Credential] = e.Account
	case e.Registration != nil:
		j.Data.Registrations[e.Registration.ID] = e.Registration
	case e.Removed != "":
		delete(j.Data.Registrations, e.Removed)
	case e.Kept != nil:
		j.Data.Answers[e.Key] = *e.Kept
	case e.Paper != "":
		j.Data.Papers[e.Paper] = e.Text
	}
}

func (j *Journal) all() []entry {
	var out []entry
	for _, a := range j.Data.Accounts {
		out = append(out, entry{Account: a})
	}
	for _, r := range j.Data.Registrations {
		out = append(out, entry{Registration: r})
	}
	for k, v := range j.Data.Answers {
		out = append(out, entry{Key: k, Kept: &v})
	}
	for k, v := range j.Data.Papers {
		out = append(out, entry{Paper: k, Text: v})
	}
	return out
}

func (j *Journal) write(e entry) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = j.file.Write(append(b, '\n'))
	return err
}

// Change is what a request did to the data; nothing of it is kept when writing fails.
type Change struct{ entries []entry }

// Save keeps a registration as it now is.
func (c *Change) Save(r *Registration) {
	c.entries = append(c.entries, entry{Registration: r})
}

// Remove forgets a registration.
func (c *Change) Remove(id string) { c.entries = append(c.entries, entry{Removed: id}) }

// Paper keeps a text under a name.
func (c *Change) Paper(name, text string) {
	c.entries = append(c.entries, entry{Paper: name, Text: text})
}

// Do runs f alone on the data and keeps what it changed. All of a change stands in one write.
func (j *Journal) Do(f func(d *Data, c *Change)) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var c Change
	f(&j.Data, &c)
	var text []byte
	for _, e := range c.entries {
		b, err := json.Marshal(e)
		if err != nil {
			return err
		}
		text = append(append(text, b...), '\n')
	}
	if len(text) == 0 {
		return nil
	}
	if _, err := j.file.Write(text); err != nil {
		return err
	}
	for _, e := range c.entries {
		j.take(e)
	}
	return nil
}
