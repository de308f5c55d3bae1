package tell

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"net/smtp"
	"strings"
	"time"

	"beacon/core/wording"
	"beacon/reach"
)

// Mail sends word by SMTP (RFC 5321).
type Mail struct {
	Door     *reach.Door
	Server   string   // host and port
	From     string   // address
	To       []string // addresses
	User     string   // empty: nobody signs in
	Password string
	Plain    bool // the connection may stay unsecured; else STARTTLS is a must (RFC 3207)
	Config   *tls.Config
}

// Send makes one attempt.
func (m Mail) Send(ctx context.Context, w Word) error {
	conn, err := m.Door.DialContext(ctx, "tcp", m.Server)
	if err != nil {
		return fmt.Errorf("connecting to the mail server: %w", err)
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(deadline); err != nil {
			return err
		}
	}
	host, _, err := net.SplitHostPort(m.Server)
	if err != nil {
		return err
	}
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return fmt.Errorf("the mail server: %w", err)
	}
	if offered, _ := c.Extension("STARTTLS"); offered {
		config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
		if m.Config != nil {
			config = m.Config
		}
		if err := c.StartTLS(config); err != nil {
			return fmt.Errorf("securing the connection to the mail server: %w", err)
		}
	} else if !m.Plain {
		return fmt.Errorf("the mail server offers no STARTTLS; say plain: true if the connection may stay unsecured")
	}
	if m.User != "" {
		if err := c.Auth(smtp.PlainAuth("", m.User, m.Password, host)); err != nil {
			return fmt.Errorf("signing in to the mail server: %w", err)
		}
	}
	if err := m.deliver(c, w); err != nil {
		return fmt.Errorf("the mail server: %w", err)
	}
	return c.Quit()
}

func (m Mail) deliver(c *smtp.Client, w Word) error {
	if err := c.Mail(m.From); err != nil {
		return err
	}
	for _, to := range m.To {
		if err := c.Rcpt(to); err != nil {
			return err
		}
	}
	body, err := c.Data()
	if err != nil {
		return err
	}
	text, err := m.message(w, time.Now())
	if err != nil {
		return err
	}
	if _, err := body.Write(text); err != nil {
		return err
	}
	return body.Close()
}

// message writes the mail (RFC 5322). What comes from outside stands in the body, encoded, and in the subject, encoded as a word.
func (m Mail) message(w Word, now time.Time) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%s@agile-beacon>\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\n"+
		"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n",
		m.From, strings.Join(m.To, ", "), mime.QEncoding.Encode("utf-8", oneLine(w.Subject())), now.Format(time.RFC1123Z), oneLine(w.ID))
	q := quotedprintable.NewWriter(&b)
	if _, err := q.Write([]byte(strings.ReplaceAll(wording.Visible(w.Text()), "\n", "\r\n"))); err != nil {
		return nil, err
	}
	err := q.Close()
	return b.Bytes(), err
}

func oneLine(text string) string { return wording.Visible(strings.Join(strings.Fields(text), " ")) }

// CheckAddress reports whether a mail address can be used.
func CheckAddress(text string) error {
	a, err := mail.ParseAddress(text)
	if err != nil || a.Address != text {
		return fmt.Errorf("%q is no mail address; write one such as hostmaster@saltmarsh-ferries.example", text)
	}
	return nil
}
