package attach

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the documentation shows is what is spoken: each line is a message, of fields that there
// are, and is written again as it stands.
func TestTheDocumentationSpeaksIt(t *testing.T) {
	data, err := os.ReadFile("../../docs/attach.md")
	require.NoError(t, err)
	_, text, found := strings.Cut(string(data), "```text-attach\n")
	require.True(t, found)
	text, _, _ = strings.Cut(text, "```")
	lines := strings.Split(strings.TrimSpace(text), "\n")
	assert.Len(t, lines, 8)
	for _, l := range lines {
		said := l[2:]
		d := json.NewDecoder(strings.NewReader(said))
		d.DisallowUnknownFields()
		var m Message
		require.NoError(t, d.Decode(&m), l)
		again, err := json.Marshal(m)
		require.NoError(t, err)
		var a, b any
		require.NoError(t, json.Unmarshal([]byte(said), &a))
		require.NoError(t, json.NewDecoder(bytes.NewReader(again)).Decode(&b))
		assert.Equal(t, a, b, l)
	}
	for _, field := range []string{"hello", "after", "refused", "events", "gap", "wheel", "do", "done", "lines", "over"} {
		assert.Contains(t, string(data), "| `"+field+"` ", field)
	}
}
