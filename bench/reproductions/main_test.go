package main

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestReading holds how the driver reads what a script prints.
func TestReading(t *testing.T) {
	reviews := t.TempDir()
	script := []byte("echo \"$KN\"; echo ends; exit 3")
	require.NoError(t, os.WriteFile(filepath.Join(reviews, "run.sh"), script, 0o644))
	for _, c := range []struct {
		r      reproduction
		faults int
	}{
		{reproduction{file: "run.sh", right: []string{`^program$`, `^ends$`}}, 0},
		{reproduction{script: `echo "$KN"`, right: []string{`^program$`}}, 0},
		{reproduction{file: "run.sh", wrong: `^ends`, right: []string{`^program$`}}, 1},
		{reproduction{file: "run.sh", right: []string{`^begins$`}}, 1},
		{reproduction{script: `echo 'this is a bug in knothole'`}, 1},
		{reproduction{script: `echo 'goroutine 1 [running]:'; echo x`, right: []string{"y"}}, 2},
	} {
		found, err := c.r.run(reviews, "program")
		require.NoError(t, err)
		require.Len(t, found.faults, c.faults, "%+v: %s", c.r, found.output)
	}
	_, err := (&reproduction{file: "nowhere.sh"}).run(reviews, "program")
	require.Error(t, err)
}

// TestList holds that each reproduction can be read, and that each asks for something.
func TestList(t *testing.T) {
	for _, r := range reproductions {
		require.True(t, (r.file == "") != (r.script == ""), r.finding)
		require.True(t, r.wrong != "" || r.right != nil, r.finding)
		_, err := regexp.Compile(r.wrong)
		require.NoError(t, err)
		for _, right := range r.right {
			_, err := regexp.Compile("(?m)" + right)
			require.NoError(t, err)
		}
	}
}
