package mailbox

import (
	"encoding/base64"
	"io"
	"mime/quotedprintable"
	"net/mail"
	"strings"
)

// decoded is the body of a mail as it was meant (RFC 2045, section 6).
func decoded(m *mail.Message) io.Reader {
	switch strings.ToLower(m.Header.Get("Content-Transfer-Encoding")) {
	case "quoted-printable":
		return quotedprintable.NewReader(m.Body)
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, m.Body)
	}
	return m.Body
}
