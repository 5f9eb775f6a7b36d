package cli

import (
	"io"

	"metabasis/internal/core/textfile"
)

// straight shows what devices said without what changes the direction of text. What we print
// comes in whole lines.
type straight struct{ io.Writer }

func (s straight) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.Writer, textfile.Straight(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
