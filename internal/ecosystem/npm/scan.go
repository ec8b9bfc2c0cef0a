package npm

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// scanner reads a JSON document (RFC 8259) from the beginning to the end without
// holding more of it than is asked for: what clients publish has whole tarballs
// in its strings.
type scanner struct {
	r *bufio.Reader
	// left is how many bytes may still be kept of it.
	left int
}

const maxDepth = 100

var errTooMuch = errors.New("it is too large")

func newScanner(r io.Reader, keep int) *scanner {
	return &scanner{r: bufio.NewReaderSize(r, 64<<10), left: keep}
}

// next is the next byte that is not white space.
func (s *scanner) next() (byte, error) {
	for {
		c, err := s.r.ReadByte()
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		if err != nil || c != ' ' && c != '\n' && c != '\t' && c != '\r' {
			return c, err
		}
	}
}

func (s *scanner) expect(want byte) error {
	c, err := s.next()
	if err == nil && c != want {
		err = fmt.Errorf("it has %q where %q should be", c, want)
	}
	return err
}

// object calls each with the name of every member; each must read the value.
func (s *scanner) object(each func(name string) error) error {
	if err := s.expect('{'); err != nil {
		return err
	}
	for first := true; ; first = false {
		c, err := s.next()
		switch {
		case err != nil:
			return err
		case c == '}' && first:
			return nil
		case c == '}' || c != '"' && c != ',':
			return fmt.Errorf("it has %q where a name should be", c)
		}
		if err := s.r.UnreadByte(); err != nil {
			return err
		}
		name, err := s.text()
		if err != nil {
			return err
		}
		if err := s.expect(':'); err != nil {
			return err
		}
		if err := each(name); err != nil {
			return err
		}
		switch c, err := s.next(); {
		case err != nil:
			return err
		case c == '}':
			return nil
		case c != ',':
			return fmt.Errorf("it has %q where %q should be", c, ',')
		}
		if c, err := s.next(); err != nil || c != '"' {
			return fmt.Errorf("it has %q where a name should be", c)
		}
		if err := s.r.UnreadByte(); err != nil {
			return err
		}
	}
}

// value gives the next value as it is written.
func (s *scanner) value() (json.RawMessage, error) {
	c, err := s.next()
	if err != nil {
		return nil, err
	}
	var raw []byte
	depth, inString := 0, false
	for {
		if s.left--; s.left < 0 {
			return nil, errTooMuch
		}
		raw = append(raw, c)
		switch {
		case inString && c == '\\':
			if c, err = s.r.ReadByte(); err != nil {
				return nil, io.ErrUnexpectedEOF
			}
			s.left--
			raw = append(raw, c)
		case c == '"':
			inString = !inString
		case inString:
		case c == '{' || c == '[':
			if depth++; depth > maxDepth {
				return nil, fmt.Errorf("it is nested deeper than %d", maxDepth)
			}
		case c == '}' || c == ']':
			depth--
		}
		if depth <= 0 && !inString {
			following, err := s.r.Peek(1)
			if c == '"' || c == '}' || c == ']' || err != nil || endsScalar(following[0]) {
				if !json.Valid(raw) {
					return nil, errors.New("it has a value that cannot be read")
				}
				return raw, nil
			}
		}
		if c, err = s.r.ReadByte(); err != nil {
			return nil, io.ErrUnexpectedEOF
		}
	}
}

func endsScalar(c byte) bool {
	switch c {
	case ',', '}', ']', ' ', '\n', '\r', '\t', ':':
		return true
	}
	return false
}

// text gives the next value, which must be a string.
func (s *scanner) text() (string, error) {
	raw, err := s.value()
	if err != nil {
		return "", err
	}
	var text string
	if err := json.Unmarshal(raw, &text); err != nil {
		return "", errors.New("it has something else where a text should be")
	}
	return text, nil
}

// base64 lets use read the bytes that the next value, a string, is the base64
// form of. What use leaves is passed over.
func (s *scanner) base64(use func(r io.Reader) error) error {
	if err := s.expect('"'); err != nil {
		return err
	}
	inside := &stringReader{from: s.r}
	if err := use(base64.NewDecoder(base64.StdEncoding, inside)); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, inside); err != nil {
		return err
	}
	return nil
}

// stringReader reads to the end of a JSON string that has no escapes but for
// the slash, which some write as \/.
type stringReader struct {
	from *bufio.Reader
	done bool
}

// Read implements io.Reader.
func (r *stringReader) Read(p []byte) (n int, err error) {
	for n < len(p) && !r.done {
		if n > 0 && r.from.Buffered() == 0 {
			break
		}
		c, err := r.from.ReadByte()
		switch {
		case err != nil:
			return n, io.ErrUnexpectedEOF
		case c == '"':
			r.done = true
		case c == '\\':
		default:
			p[n] = c
			n++
		}
	}
	if n == 0 && r.done {
		return 0, io.EOF
	}
	return n, nil
}
