package core_test

import (
	"encoding/binary"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/verify"
)

// TestParityByDigests compares what the digests of documents leave of parity with comparing all of them.
func TestParityByDigests(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	found, alike := 0, 0
	for seed := range uint64(rounds(25, 1000)) {
		c := newCoasts(t, seed)
		texts := c.texts(t)
		if seed%3 == 0 {
			texts["east.yaml"] = texts["west.yaml"]
		}
		texts[project.FileName] += "[[parity]]\nenvironments = [\"west\", \"east\"]\n" +
			"may_differ = [\"a.yaml: **\", \"*: name\"]\n"
		files := fstest.MapFS{}
		for name, text := range texts {
			files[name] = &fstest.MapFile{Data: []byte(text)}
		}
		p, err := project.Load(files)
		require.NoError(t, err)
		runs := p.Runs(p.Concrete())
		without, err := verify.Project(p, runs, verify.Options{Builtins: builtin.Table}, nil)
		require.NoError(t, err)
		if without.HasErrors() {
			continue
		}
		with, err := verify.Project(p, runs, verify.Options{Parity: true, Builtins: builtin.Table}, nil)
		require.NoError(t, err)
		all, number := compare.Digests{}, uint64(0) // as if all documents differed
		_, _ = verify.Project(p, runs, verify.Options{Builtins: builtin.Table}, func(r *render.Result) error {
			all[r.Run.Name] = map[string][32]byte{}
			for _, d := range r.Documents {
				var digest [32]byte
				number++
				binary.BigEndian.PutUint64(digest[:], number)
				all[r.Run.Name][d.Path] = digest
			}
			return nil
		})
		more, err := compare.CheckParity(p, all, builtin.Table)
		require.NoError(t, err)
		without.Add(more...)
		require.Equal(t, without.Findings(), with.Findings(), "seed %d", seed)
		if len(with.Findings()) > 0 {
			found++
		}
		if texts["east.yaml"] == texts["west.yaml"] {
			alike++
		}
	}
	require.Greater(t, found, 8)
	require.Greater(t, alike, 5)
}
