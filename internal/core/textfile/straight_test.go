package textfile

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTextThatTurnsIsSeen(t *testing.T) {
	assert.Equal(t, "title \ufffdsyauq\ufffd │ é", Straight("title \u202esyauq\u202c │ é"))
	for _, r := range []rune{0x61c, 0x200e, 0x200f, 0x202a, 0x202b, 0x202c, 0x202d, 0x202e, 0x2066, 0x2067, 0x2068, 0x2069} {
		assert.Equal(t, "a\ufffdb", Straight("a"+string(r)+"b"), "%x", r)
		whole := []byte(string(r))
		for n := 1; n < len(whole); n++ {
			assert.Equal(t, min(n, 2), Turning(append([]byte("port "), whole[:n]...)), "%x", r)
		}
		assert.Zero(t, Turning(whole))
	}
	assert.Zero(t, Turning([]byte("port")))
	assert.Zero(t, Turning(nil))
}
