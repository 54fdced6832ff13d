package bench

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// PutDialect checks a dialect, keeps it in the folder of dialects, and puts it into force. The bays that use it
// must be idle.
func (b *Bench) PutDialect(by, text string) (*dialect.Dialect, error) {
	defer b.changing.Enter()()
	d, err := b.Dialects().Read(dialect.Source{File: "sent", Text: text})
	if err != nil {
		return nil, err
	}
	path := filepath.Join(b.DialectFolder(), d.Name+".yaml")
	before, readErr := os.ReadFile(path)
	if err := os.MkdirAll(b.DialectFolder(), 0o700); err != nil {
		return nil, err
	}
	if err := writeBeside(path, text); err != nil {
		return nil, err
	}
	library, err := dialect.Load(b.DialectFolder())
	if err == nil || library[d.Name] != nil {
		err = b.rebuild(b.unchanged(library))
	}
	if err != nil {
		if readErr == nil {
			return nil, errors.Join(err, writeBeside(path, string(before)))
		}
		return nil, errors.Join(err, os.Remove(path))
	}
	b.options.Journal(store.JournalEntry{By: by, What: "dialect stored", Detail: d.Name + ": " + d.Title})
	return b.Dialects()[d.Name], nil
}

// unchanged keeps the dialects whose text is the same, so that instruments which speak them go on.
func (b *Bench) unchanged(library dialect.Library) dialect.Library {
	for name, d := range library {
		if old, ok := b.dialects[name]; ok && slices.Equal(old.Sources, d.Sources) {
			library[name] = old
		}
	}
	return library
}

// writeBeside writes a file so that nobody reads half of it.
func writeBeside(path, text string) error {
	if err := os.WriteFile(path+".new", []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// DescribeDialect is a dialect as the API gives it.
func DescribeDialect(d *dialect.Dialect) api.Dialect {
	own := d.Sources[len(d.Sources)-1]
	return api.Dialect{Name: d.Name, Title: d.Title, Protocol: string(d.Protocol), Channels: d.Channels, Seats: d.Seats,
		File: strings.TrimPrefix(own.File, "shipped dialect/"), Text: own.Text}
}
