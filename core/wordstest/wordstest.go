// Package wordstest compares what a package says in words with a file that somebody has read.
package wordstest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Same fails where words are not those of a file of testdata. With LITHOS_WRITE_WORDS set it writes them there first;
// the difference is to be read before it is committed.
func Same(t *testing.T, file, words string) {
	t.Helper()
	path := filepath.Join("testdata", file)
	if os.Getenv("LITHOS_WRITE_WORDS") != "" {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(words), 0o600))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(want), words)
}
