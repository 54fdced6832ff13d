package archive_test

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/archive"
	"usherbench/core/procedure"
	"usherbench/store"
)

// fixture opens a copy of the database that an earlier program left: runs of the bench and rehearsals on record.
func fixture(t testing.TB) *store.Store {
	packed, err := os.Open("../store/testdata/schema-5.db.gz")
	require.NoError(t, err)
	defer packed.Close()
	plain, err := gzip.NewReader(packed)
	require.NoError(t, err)
	data, err := io.ReadAll(plain)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "usher.db")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	s, err := store.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

// TestOldRecordsGiveTheFiguresTheyGave judges every run of the fixture and compares with what was computed when the
// fixture was made, to the last digit. A change of a definition shows here; if it is meant, say so in the changelog
// and write the figures anew with USHER_WRITE_FIGURES=1.
func TestOldRecordsGiveTheFiguresTheyGave(t *testing.T) {
	s := fixture(t)
	runs, err := s.Runs(store.RunFilter{Limit: 1000})
	require.NoError(t, err)
	require.Greater(t, len(runs), 25)
	now := map[string][]procedure.Judged{}
	for _, r := range runs {
		run, err := s.Run(r.ID)
		require.NoError(t, err)
		program, record, err := archive.Record(s, run)
		require.NoError(t, err, run.Procedure)
		now[run.Procedure+" "+run.ID] = program.Judge(record)
	}
	const file = "testdata/schema-5.figures.json"
	if os.Getenv("USHER_WRITE_FIGURES") != "" {
		text, err := json.MarshalIndent(now, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var then map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &then))
	require.Len(t, now, len(then))
	for run, figures := range now {
		have, err := json.Marshal(figures)
		require.NoError(t, err)
		assert.JSONEq(t, string(then[run]), string(have), run)
	}
}
