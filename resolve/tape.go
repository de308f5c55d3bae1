package resolve

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/core/evidence"
)

// tape keeps what was heard during a check, in presentation form. A nil one keeps nothing.
type tape struct {
	mu    sync.Mutex
	heard []evidence.Heard
}

func (t *tape) keep(now func() time.Time, server evidence.Server, q Question, r Reply, err error) {
	if t == nil {
		return
	}
	kind := dns.TypeToString[q.Type]
	if kind == "" {
		kind = fmt.Sprintf("TYPE%d", q.Type)
	}
	h := evidence.Heard{Server: server, At: now(), Asked: q.Name + " " + kind, Over: string(r.Over), Took: float64(r.Took.Microseconds()) / 1000}
	if err != nil {
		h.Problem = err.Error()
	} else {
		h.Says = says(r.Msg)
		h.Answer, h.Authority, h.Additional = lines(r.Answer), lines(r.Ns), lines(r.Extra)
		h.Explained = explained(r.Msg)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.heard = append(t.heard, h)
}

func (t *tape) all() []evidence.Heard {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.heard
}

// says returns the response code and the flags that matter.
func says(m *dns.Msg) string {
	parts := []string{dns.RcodeToString[m.Rcode]}
	for flag, set := range map[string]bool{"aa": m.Authoritative, "tc": m.Truncated, "ra": m.RecursionAvailable, "ad": m.AuthenticatedData} {
		if set {
			parts = append(parts, flag)
		}
	}
	return strings.Join(sortedTail(parts), " ")
}

// lines prints records, without what only concerns the message.
func lines(section []dns.RR) (out []string) {
	for _, rr := range section {
		if rr.Header().Rrtype != dns.TypeOPT {
			out = append(out, strings.ReplaceAll(rr.String(), "\t", " "))
		}
	}
	return out
}

// explained reads extended errors (RFC 8914) into words: the registered meaning, and what the server adds.
func explained(m *dns.Msg) (out []string) {
	opt := m.IsEdns0()
	if opt == nil {
		return nil
	}
	for _, o := range opt.Option {
		if e, ok := o.(*dns.EDNS0_EDE); ok {
			text := dns.ExtendedErrorCodeToString[e.InfoCode]
			if text == "" {
				text = "extended error"
			}
			text = fmt.Sprintf("%s (%d)", text, e.InfoCode)
			if extra := strings.TrimSpace(printable(e.ExtraText)); extra != "" {
				text += ": " + extra
			}
			out = append(out, text)
		}
	}
	return out
}

// printable drops what somebody else's text should not do to a terminal.
func printable(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\uFFFD' {
			return -1
		}
		return r
	}, text)
	return text[:min(len(text), 200)]
}
