package tell

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/finding"
	"beacon/reach"
)

var word = Word{ID: "7-wrong", Domain: "saltmarsh-ferries.example", Verdict: delegation.NeedsAction, Before: delegation.Settled,
	At:       time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC),
	Findings: []finding.Finding{{Code: "nameserver-lame", Severity: finding.Error, Subject: "quay-11.heron.test", Message: "Ünruhe.", Remedy: "Make the zone."}, {Code: "no-ipv6", Severity: finding.Notice}}}

func TestWordOfDeadlines(t *testing.T) {
	by := time.Date(2030, 4, 3, 12, 0, 0, 0, time.UTC)
	w := Word{Domain: "saltmarsh-ferries.example", Verdict: delegation.Settled, Before: delegation.Settled, Deadlines: []delegation.Deadline{{Code: "registration-ends-soon", Subject: "saltmarsh-ferries.example", By: by}}}
	assert.Equal(t, "saltmarsh-ferries.example: settled; registration-ends-soon, 3 April 2030", w.Subject())
	assert.Contains(t, w.Text(), "New: registration-ends-soon (saltmarsh-ferries.example), on 2030-04-03 12:00 UTC.")
	assert.NotContains(t, w.Text(), "Before:", "the verdict is the same")
}

func TestHook(t *testing.T) {
	secret, status := []byte("lantern"), http.StatusNoContent
	var got Word
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.Equal(t, Sign(secret, r.Header.Get(HeaderTime), body), r.Header.Get(HeaderSignature))
		assert.NotEqual(t, Sign([]byte("other"), r.Header.Get(HeaderTime), body), r.Header.Get(HeaderSignature))
		assert.NotEqual(t, Sign(secret, "0", body), r.Header.Get(HeaderSignature), "the time is signed too")
		assert.Equal(t, "7-wrong", r.Header.Get(HeaderID))
		assert.NoError(t, json.Unmarshal(body, &got))
		w.WriteHeader(status)
	}))
	defer server.Close()
	h := Hook{server.Client(), server.URL, secret}
	require.NoError(t, h.Send(context.Background(), word))
	assert.Equal(t, word, got)
	status = http.StatusBadGateway
	assert.ErrorContains(t, h.Send(context.Background(), word), "502")
}

// post is a mail server that takes one message, and gives what it was told.
func post(t *testing.T, greeting ...string) (string, chan string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	said := make(chan string, 1)
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		in := bufio.NewReader(conn)
		var b strings.Builder
		reply := func(text string) { _, _ = io.WriteString(conn, text+"\r\n") }
		reply("220 post.example")
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				said <- b.String()
				return
			}
			b.WriteString(line)
			switch verb := strings.ToUpper(line[:4]); verb {
			case "EHLO":
				reply(strings.Join(append([]string{"250-post.example"}, append(greeting, "250 8BITMIME")...), "\r\n"))
			case "DATA":
				reply("354 go on")
				for line, _ := in.ReadString('\n'); line != ".\r\n"; line, _ = in.ReadString('\n') {
					b.WriteString(line)
				}
				reply("250 taken")
			case "QUIT":
				reply("221 bye")
				said <- b.String()
				return
			default:
				reply("250 fine")
			}
		}
	}()
	return l.Addr().String(), said
}

func TestMail(t *testing.T) {
	at, said := post(t)
	m := Mail{Door: reach.Loopback(), Server: at, From: "beacon@saltmarsh-ferries.example", To: []string{"hostmaster@saltmarsh-ferries.example", "night@saltmarsh-ferries.example"}, Plain: true}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	require.NoError(t, m.Send(ctx, word))
	text := <-said
	assert.Contains(t, text, "RCPT TO:<night@saltmarsh-ferries.example>")
	_, raw, _ := strings.Cut(text, "DATA\r\n")
	parsed, err := mail.ReadMessage(strings.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh-ferries.example: needs action", parsed.Header.Get("Subject"))
	body, err := io.ReadAll(quotedprintable.NewReader(parsed.Body))
	require.NoError(t, err)
	assert.Contains(t, string(body), "Ünruhe.")
	assert.Contains(t, string(body), "Before: settled")
	assert.NotContains(t, string(body), "no-ipv6", "notices are not worth a mail")
}

func TestMailMustBeSecured(t *testing.T) {
	at, _ := post(t)
	m := Mail{Door: reach.Loopback(), Server: at, From: "a@b.example", To: []string{"c@d.example"}}
	assert.ErrorContains(t, m.Send(context.Background(), word), "STARTTLS")
	m.Server = "192.0.2.25:25"
	assert.ErrorIs(t, m.Send(context.Background(), word), reach.ErrRefused)
}

// Nothing that comes from outside adds a header.
func TestMailHeaders(t *testing.T) {
	w := word
	w.Domain = "a.example\r\nBcc: everybody@example"
	text, err := Mail{From: "a@b.example", To: []string{"c@d.example"}}.message(w, time.Now())
	require.NoError(t, err)
	head, _, _ := strings.Cut(string(text), "\r\n\r\n")
	assert.NotContains(t, head, "\nBcc")
	assert.Error(t, CheckAddress("a@b.example\r\nBcc: c@d.example"))
	assert.NoError(t, CheckAddress("a@b.example"))
}

func TestQuiet(t *testing.T) {
	at := func(text string) time.Time {
		out, err := time.Parse("2006-01-02 15:04", text)
		require.NoError(t, err)
		return out
	}
	for _, c := range []struct{ from, to, place, now, until string }{
		{"22:00", "07:00", "", "2030-03-01 23:30", "2030-03-02 07:00"},
		{"22:00", "07:00", "", "2030-03-01 06:59", "2030-03-01 07:00"},
		{"22:00", "07:00", "", "2030-03-01 07:00", "2030-03-01 07:00"},
		{"22:00", "07:00", "", "2030-12-31 22:00", "2031-01-01 07:00"},
		{"12:00", "13:00", "", "2030-03-01 12:30", "2030-03-01 13:00"},
		{"12:00", "13:00", "", "2030-03-01 13:30", "2030-03-01 13:30"},
		{"22:00", "07:00", "Europe/Berlin", "2030-07-01 20:30", "2030-07-02 05:00"},
		{"22:00", "07:00", "Europe/Berlin", "2030-03-30 23:30", "2030-03-31 05:00"},
		{"", "", "", "2030-03-01 03:00", "2030-03-01 03:00"},
	} {
		q, err := ParseQuiet(c.from, c.to, c.place)
		require.NoError(t, err)
		assert.Equal(t, at(c.until), q.Until(at(c.now)).UTC(), "%+v", c)
	}
	for _, bad := range [][3]string{{"22", "07:00", ""}, {"22:00", "25:00", ""}, {"22:00", "07:00", "Nowhere"}} {
		_, err := ParseQuiet(bad[0], bad[1], bad[2])
		assert.Error(t, err)
	}
}
