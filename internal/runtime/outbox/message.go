package outbox

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"path"
	"strings"
	"time"

	"alibi/internal/host"
)

// ErrNoMail is given for a thing that was caught and is no mail.
var ErrNoMail = errors.New("it is no mail")

// largestMail is how much of a mail is read, in bytes.
const largestMail = 64 << 20

// Message gives a mail as it is written to a file (RFC 5322). What the CMS was asked to send is put into that form:
// its attachments are named, and were not kept.
func Message(r host.Tree, it Item) ([]byte, error) {
	if it.Kind != "mail" {
		return nil, fmt.Errorf("%s to %s: %w", it.Kind, it.To, ErrNoMail)
	}
	text, err := host.ReadFile(r, it.File, largestMail)
	if err != nil {
		return nil, fmt.Errorf("reading the mail: %w", err)
	}
	if strings.HasPrefix(it.File, "sendmail-") {
		return text, nil
	}
	var m asked
	if err := json.Unmarshal(text, &m); err != nil {
		return nil, fmt.Errorf("reading the mail: %w", err)
	}
	var b bytes.Buffer
	header := func(name, value string) {
		value = strings.NewReplacer("\r", " ", "\n", " ").Replace(value)
		fmt.Fprintf(&b, "%s: %s\r\n", name, value)
	}
	header("Date", m.At.Format(time.RFC1123Z))
	header("To", strings.Join(m.To, ", "))
	header("Subject", mime.QEncoding.Encode("utf-8", m.Subject))
	kind := "text/plain; charset=utf-8"
	for _, h := range m.Headers {
		name, value, ok := strings.Cut(h, ":")
		switch {
		case !ok:
		case strings.EqualFold(name, "Content-Type"):
			kind = strings.TrimSpace(value)
		case !strings.ContainsAny(name, " \r\n"):
			header(name, strings.TrimSpace(value))
		}
	}
	for _, f := range m.Files {
		header("X-Attachment-Not-Kept", path.Base(f))
	}
	header("MIME-Version", "1.0")
	header("Content-Type", kind)
	header("Content-Transfer-Encoding", "quoted-printable")
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	_, err = w.Write([]byte(m.Message))
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
