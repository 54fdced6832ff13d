package cli

import (
	"encoding"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"

	"github.com/go-viper/mapstructure/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"usherbench/core/document"
)

// readSettings merges flags, environment and file.
func readSettings(c *cobra.Command, file, data string) (settings, error) {
	v := viper.New()
	v.SetEnvPrefix("USHER")
	v.SetDefault("data", data)
	for _, name := range []string{"listen", "tls-cert", "tls-key", "insecure", "log-level", "time-factor"} {
		key := strings.ReplaceAll(name, "-", "_")
		if err := errors.Join(v.BindPFlag(key, c.Flags().Lookup(name)), v.BindEnv(key)); err != nil {
			return settings{}, err
		}
	}
	if file == "" {
		file = firstFile(filepath.Join(data, "usher.yaml"), "usher.yaml")
	}
	var s settings
	if file != "" {
		if err := checkSettings(file); err != nil {
			return s, err
		}
		v.SetConfigFile(file)
		v.SetConfigType("yaml")
		if err := v.ReadInConfig(); err != nil {
			return s, fmt.Errorf("configuration %s: %w", file, err)
		}
	}
	err := v.UnmarshalExact(&s, viper.DecodeHook(mapstructure.TextUnmarshallerHookFunc()))
	if err != nil {
		return s, fmt.Errorf("configuration %s: %w", file, err)
	}
	// A flag or variable for the folder wins over the file, which may have been found in it.
	if c.Flags().Changed("data") || os.Getenv("USHER_DATA") != "" || s.Data == "" {
		s.Data = data
	}
	return s, nil
}

// checkSettings finds keys of a configuration that mean nothing, with line and column, and what was probably meant.
func checkSettings(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("configuration: %w", err)
	}
	if strings.TrimSpace(string(text)) == "" {
		return nil
	}
	doc, err := document.Parse(text)
	if err == nil {
		checkKeys(doc.Root(), reflect.TypeFor[settings]())
		err = doc.Findings().Err()
	}
	var findings document.Findings
	if !errors.As(err, &findings) {
		return err
	}
	var words []string
	for _, f := range findings {
		words = append(words, fmt.Sprintf("%s:%d:%d: %s", file, f.Line, f.Column, f.Message))
	}
	return errors.New(strings.Join(words, "\n"))
}

// checkKeys compares the keys of a part of a configuration with the fields into which they are read.
func checkKeys(n document.Node, t reflect.Type) {
	switch {
	case !n.Present() || reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()):
	case t.Kind() == reflect.Map && n.IsMap():
		for _, e := range n.Entries() {
			checkKeys(e.Value, t.Elem())
		}
	case t.Kind() == reflect.Slice && n.IsList():
		for _, item := range n.Items() {
			checkKeys(item, t.Elem())
		}
	case t.Kind() == reflect.Struct && n.IsMap():
		fields := map[string]func(document.Node){}
		for _, f := range reflect.VisibleFields(t) {
			name, options, _ := strings.Cut(f.Tag.Get("mapstructure"), ",")
			if name != "" && options == "" {
				fields[name] = func(n document.Node) { checkKeys(n, f.Type) }
			}
		}
		n.Fields(fields)
	}
}
