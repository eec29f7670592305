package mask

import "io"

// Writer masks what is written through it, a whole message at a time: what is logged
// goes through one of these. NewWriter makes one.
type Writer struct {
	to     io.Writer
	masker func() *Masker
}

// NewWriter returns a Writer to another one, with the masker that is in force at each
// write.
func NewWriter(to io.Writer, masker func() *Masker) *Writer { return &Writer{to: to, masker: masker} }

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.to, w.masker().Text(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
