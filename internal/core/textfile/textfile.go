// Package textfile reads the files that a person or a device can hand us: the one
// place that knows how large they may be and how text may be encoded.
//
// A byte order mark, UTF-16 behind one, and ends of line of CR LF or CR are taken
// as they are meant, everywhere alike. What is no text is one error. Nothing is
// read without a bound.
package textfile

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"syscall"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"

	"metabasis/internal/core/problem"
)

// Bounds on files, in bytes.
const (
	Small = 1 << 20  // settings, profiles, runbooks, selections
	Large = 32 << 20 // fleets, known hosts
)

// Read reads a text file of at most that many bytes. What is wrong with its
// contents is a problem.List; that it cannot be read is an error of the system.
func Read(path string, most int64) ([]byte, error) {
	data, err := Bytes(path, most)
	if err != nil {
		return nil, err
	}
	return Decode(path, data)
}

// Bytes reads a file of at most that many bytes. A pipe that nobody has open for
// writing is empty, and is not waited for.
func Bytes(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, wrong(path, "this is a directory; a file is wanted")
	case info.Size() > most:
		return nil, tooLarge(path, most)
	}
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if int64(len(data)) > most {
		return nil, tooLarge(path, most)
	}
	return data, err
}

func wrong(path, format string, args ...any) error {
	return problem.List{{File: path, Msg: fmt.Sprintf(format, args...)}}
}

func tooLarge(path string, most int64) error {
	return wrong(path, "this file is larger than %d MB, which is the most for its kind", most>>20)
}

// Decode makes UTF-8 with plain ends of line of a file's bytes. The error is a
// problem.List.
func Decode(file string, data []byte) ([]byte, error) {
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("\xfe\xff")):
		if len(data)%2 != 0 {
			return nil, wrong(file, "this is UTF-16 with half a character at its end: it is cut short")
		}
		decoded, err := unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(data)
		if err != nil {
			return nil, wrong(file, "this is UTF-16 that cannot be read: %v", err)
		}
		data = decoded
	default:
		data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	}
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, wrong(file, "this is no text: byte %d is zero (UTF-16 needs its byte order mark)", i+1)
	}
	if !utf8.Valid(data) {
		p := problem.Problem{File: file, Msg: "this is not UTF-8 text", Hint: "it as UTF-8"}
		p.Line = 1 + bytes.Count(data[:firstInvalid(data)], []byte("\n"))
		return nil, problem.List{p}
	}
	if bytes.IndexByte(data, '\r') >= 0 {
		data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
		if bytes.IndexByte(data, '\n') < 0 { // ends of line of a kind that is older still
			data = bytes.ReplaceAll(data, []byte("\r"), []byte("\n"))
		}
	}
	return data, nil
}

func firstInvalid(data []byte) int {
	for i := 0; i < len(data); {
		r, n := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && n <= 1 {
			return i
		}
		i += n
	}
	return len(data)
}
