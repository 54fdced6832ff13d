package cli

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/catalogue"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/shape"
	"usherbench/demo"
	"usherbench/tables"
)

// procedureFile is a procedure read from a file, with the tables that lie beside it taken in.
type procedureFile struct {
	path string
	text []byte
}

var (
	tableUse  = regexp.MustCompile(`\btable:\s*["']?([^\s"',}\]]+)`)
	tablesKey = regexp.MustCompile(`(?m)^tables:[ \t]*(#.*)?$`)

	pictureUse  = regexp.MustCompile(`\bpicture:\s*["']?([^\s"',}\]]+)`)
	picturesKey = regexp.MustCompile(`(?m)^pictures:[ \t]*(#.*)?$`)
)

// readProcedure reads a procedure. A table that its text names but does not carry is taken from the file of
// that name beside it, CSV or XLSX, so that the text is whole wherever it goes.
func readProcedure(path string) (procedureFile, error) {
	text, err := readDocument(path)
	f := procedureFile{path, text}
	if err != nil {
		return f, err
	}
	doc, err := document.Parse(text)
	if err != nil {
		return f, nil // the check will say what is wrong
	}
	have := namesUnder(doc, "tables")
	for _, m := range tableUse.FindAllSubmatch(text, -1) {
		name := string(m[1])
		beside := filepath.Join(filepath.Dir(path), name)
		if slices.Contains(have, name) || name != filepath.Base(name) {
			continue
		}
		table, err := readTable(beside)
		if errors.Is(err, os.ErrNotExist) {
			continue // a finding of the check
		}
		if err != nil {
			return f, fmt.Errorf("%s: %w", beside, err)
		}
		have = append(have, name)
		f.text = carry(f.text, name, tables.Text(table))
	}
	f.text, err = withPictures(f.text, filepath.Dir(path), namesUnder(doc, "pictures"))
	return f, err
}

// namesUnder are the names of what a document carries under a key.
func namesUnder(doc *document.Document, key string) (names []string) {
	for _, e := range doc.Root().Entries() {
		if e.Key != key {
			continue
		}
		for _, t := range e.Value.Entries() {
			names = append(names, t.Key)
		}
	}
	return names
}

// withPictures puts the pictures into the text that it names and does not carry, from files beside it.
func withPictures(text []byte, folder string, have []string) ([]byte, error) {
	for _, m := range pictureUse.FindAllSubmatch(text, -1) {
		name := string(m[1])
		if slices.Contains(have, name) || name != filepath.Base(name) {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, name))
		if errors.Is(err, os.ErrNotExist) {
			continue // a finding of the check
		}
		if err != nil {
			return text, err
		}
		have = append(have, name)
		entry := "  " + name + ": " + base64.StdEncoding.EncodeToString(data)
		if at := picturesKey.FindIndex(text); at != nil {
			text = slices.Concat(text[:at[1]], []byte("\n"+entry), text[at[1]:])
			continue
		}
		text = slices.Concat([]byte(strings.TrimRight(string(text), "\n")), []byte("\npictures:\n"+entry+"\n"))
	}
	return text, nil
}

// carry puts a table into the text of a procedure.
func carry(text []byte, name, csv string) []byte {
	entry := "  " + name + ": |\n    " + strings.ReplaceAll(strings.TrimRight(csv, "\n"), "\n", "\n    ") + "\n"
	if at := tablesKey.FindIndex(text); at != nil {
		return slices.Concat(text[:at[1]], []byte("\n"+strings.TrimRight(entry, "\n")), text[at[1]:])
	}
	return slices.Concat([]byte(strings.TrimRight(string(text), "\n")), []byte("\ntables:\n"+entry))
}

func readTable(path string) (*shape.Table, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return tables.Read(f, tables.FormatOf(path))
}

// library finds procedures that another uses: beside its file, in the service if one runs, in the demo scenario.
func (a *app) library(ctx context.Context, path string) procedure.Library {
	return func(name string) (string, error) {
		if f, err := readProcedure(filepath.Join(filepath.Dir(path), name+".yaml")); err == nil {
			return string(f.text), nil
		}
		if cl, err := a.connect(); err == nil {
			if p, err := cl.Procedure(ctx, name, 0); err == nil {
				return p.Text, nil
			}
		}
		return demo.Library(name)
	}
}

// plateFor finds the nameplate that a procedure is for; nil if it is for any unit and none is given, or if it
// is not known, which is a finding of the check.
func (a *app) plateFor(ctx context.Context, text []byte, given string) (*nameplate.Nameplate, error) {
	header, err := procedure.ReadHeader(text)
	if err != nil {
		return nil, err
	}
	name, file := header.For, ""
	if given != "" {
		name = given
		if _, err := os.Stat(given); err == nil {
			file = given
		}
	}
	if name == "" || name == "any" {
		return nil, nil
	}
	plateText, err := a.findNameplate(ctx, name, file)
	if err != nil || plateText == nil {
		return nil, err
	}
	plate, err := nameplate.Parse(plateText)
	if err != nil {
		return nil, fmt.Errorf("nameplate %s: %w", name, err)
	}
	return plate, nil
}

// checkHere checks a procedure in this process.
func (a *app) checkHere(ctx context.Context, f procedureFile, plateFile string,
	values map[string]string) (*procedure.Program, *nameplate.Nameplate, error) {
	plate, err := a.plateFor(ctx, f.text, plateFile)
	if err != nil {
		return nil, nil, err
	}
	p, err := catalogue.Parse(f.text, plate, values, a.library(ctx, f.path))
	return p, plate, err
}
