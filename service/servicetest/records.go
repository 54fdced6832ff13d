package servicetest

import (
	"os"
	"path/filepath"
	"sync"

	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/demo"
	"usherbench/store"
)

// scenario is a database that holds the nameplates and procedures of the demo scenario and nothing else. It is made
// once in a process: houses begin on copies of it.
var scenario = sync.OnceValues(func() ([]byte, error) {
	folder, err := os.MkdirTemp("", "usher-scenario-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, store.File)
	s, err := store.Open(file)
	if err != nil {
		return nil, err
	}
	if err := putScenario(s); err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(file)
})

func putScenario(s *store.Store) error {
	for _, text := range demo.Nameplates() {
		plate, err := nameplate.Parse([]byte(text))
		if err != nil {
			return err
		}
		if err := s.PutNameplate(store.Nameplate{Name: plate.Name, Text: text, By: "demo", At: today}); err != nil {
			return err
		}
	}
	for _, text := range demo.Procedures() {
		header, err := procedure.ReadHeader([]byte(text))
		if err != nil {
			return err
		}
		if _, _, err := s.PushRevision(store.Revision{Name: header.Name, Title: header.Title, For: header.For, Text: text,
			By: "demo", At: today}); err != nil {
			return err
		}
	}
	return nil
}
