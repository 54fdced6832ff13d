package dialect

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"usherbench/core/document"
)

//go:embed dialects/*.yaml
var shipped embed.FS

// Library is a set of dialects by name.
type Library map[string]*Dialect

// shippedPlace is shown in front of the names of files that ship with the program.
const shippedPlace = "shipped dialect"

// Load reads the dialects that ship with the program and those of a folder, which may be missing or empty (""
// for none). One of the folder replaces a shipped one of the same name. Files that cannot be read are reported
// together; the rest is usable.
func Load(folder string) (Library, error) {
	if _, err := os.Stat(folder); folder == "" || errors.Is(err, fs.ErrNotExist) {
		l, err := shippedLibrary()
		return maps.Clone(l), err
	}
	sources, err := shippedSources()
	own, ownErr := gather(os.DirFS(folder), folder)
	l, readErr := FromSources(append(sources, own...))
	return l, errors.Join(err, ownErr, readErr)
}

// shippedLibrary are the dialects that ship with the program, read once.
var shippedLibrary = sync.OnceValues(func() (Library, error) {
	sources, err := shippedSources()
	l, readErr := FromSources(sources)
	return l, errors.Join(err, readErr)
})

func shippedSources() ([]Source, error) {
	embedded, err := fs.Sub(shipped, "dialects")
	if err != nil {
		return nil, err
	}
	return gather(embedded, shippedPlace)
}

func gather(files fs.FS, where string) ([]Source, error) {
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return nil, err
	}
	var sources []Source
	var errs []error
	for _, name := range names {
		text, err := fs.ReadFile(files, name)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		sources = append(sources, Source{filepath.Join(where, name), string(text)})
	}
	return sources, errors.Join(errs...)
}

// FromSources reads dialects that may be built on one another; a later one of the same name replaces an earlier one.
func FromSources(sources []Source) (Library, error) {
	l := Library{}
	named := map[string]Source{}
	var errs []error
	for _, s := range sources {
		name, err := nameOf(s)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", s.File, err))
			continue
		}
		named[name] = s
	}
	for _, name := range slices.Sorted(maps.Keys(named)) {
		if _, err := l.build(name, named, nil); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", named[name].File, err))
		}
	}
	return l, errors.Join(errs...)
}

// wholes are dialects that were read from all of their sources, by these.
var wholes struct {
	sync.Mutex
	read map[string]*Dialect
}

// mostWholes bounds how many are kept.
const mostWholes = 500

// Whole reads a dialect again from all of its sources, bases first. What was read once is kept: who must switch off has
// no time to read.
func Whole(sources []Source) (*Dialect, error) {
	var key strings.Builder
	for _, s := range sources {
		fmt.Fprintf(&key, "%d %s", len(s.Text), s.Text)
	}
	wholes.Lock()
	defer wholes.Unlock()
	if d := wholes.read[key.String()]; d != nil {
		return d, nil
	}
	library, err := FromSources(sources)
	if err != nil {
		return nil, err
	}
	for _, d := range library {
		if len(d.Sources) != len(sources) {
			continue
		}
		if wholes.read == nil || len(wholes.read) >= mostWholes {
			wholes.read = map[string]*Dialect{}
		}
		wholes.read[key.String()] = d
		return d, nil
	}
	return nil, errors.New("it is not complete")
}

func nameOf(s Source) (string, error) {
	doc, err := document.Parse([]byte(s.Text))
	if err != nil {
		return "", err
	}
	for _, e := range doc.Root().Entries() {
		if e.Key == "dialect" {
			return e.Value.Text(), doc.Findings().Err()
		}
	}
	return "",
		document.Findings{{Line: 1, Column: 1, Message: `this is not a dialect: the key "dialect" with a name is missing`}}
}

// build reads a dialect and first those it is built on.
func (l Library) build(name string, named map[string]Source, under []string) (*Dialect, error) {
	if d, ok := l[name]; ok {
		return d, nil
	}
	source, ok := named[name]
	if !ok {
		return nil, fmt.Errorf("there is no dialect %q to build on; %s", name,
			document.Suggest(name, slices.Collect(maps.Keys(named))))
	}
	if slices.Contains(under, name) {
		return nil, fmt.Errorf("dialect %q is built on itself", name)
	}
	d, err := Parse(source, func(base string) (*Dialect, error) { return l.build(base, named, append(under, name)) })
	if err != nil {
		return nil, err
	}
	l[d.Name] = d
	return d, nil
}

// Read reads one more dialect, which may be built on one of the library, without adding it.
func (l Library) Read(source Source) (*Dialect, error) {
	return Parse(source, func(base string) (*Dialect, error) {
		if d, ok := l[base]; ok {
			return d, nil
		}
		return nil, fmt.Errorf("there is no dialect %q to build on; %s", base,
			document.Suggest(base, slices.Collect(maps.Keys(l))))
	})
}

// Offer lists the dialects whose identity matches, by name.
func (l Library) Offer(identity string) (names []string) {
	for _, name := range slices.Sorted(maps.Keys(l)) {
		if d := l[name]; d.Identity.Match != nil && identity != "" && d.Identity.Match.MatchString(identity) {
			names = append(names, name)
		}
	}
	return names
}
