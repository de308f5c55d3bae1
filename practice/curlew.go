package practice

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Curlew's ways: single records with numbers of their own, pages, changes that are accepted first and done later one by
// one, absolute names, TTLs ("lifetimes") of a ladder. Whatever goes wrong is told in the body of an answer that says 200.
const (
	curlewPage    = 50
	curlewMostOps = 12
	curlewWorks   = 60 * time.Millisecond // until a batch is taken up
	curlewEach    = 4 * time.Millisecond  // for each change
)

var curlewLadder = []uint32{60, 300, 900, 3600, 14400, 86400}

// curlewRecord is a record as the interface shows it.
type curlewRecord struct {
	RID      string `json:"rid"`
	Owner    string `json:"owner"`
	RType    string `json:"rtype"`
	Lifetime uint32 `json:"lifetime"`
	Content  string `json:"content"`
	Memo     string `json:"memo"`
}

type curlewOp struct {
	Do string `json:"do"` // create, update or delete
	curlewRecord
}

// curlewBatch is a batch that was accepted.
type curlewBatch struct {
	State   string `json:"state"` // waiting, working, done or stuck
	Problem string `json:"problem,omitempty"`
	Done    int    `json:"done_ops"`
}

func curlewFail(rw http.ResponseWriter, wordForIt, text string) {
	answer(rw, http.StatusOK, map[string]any{"ok": false, "fault": map[string]string{"word": wordForIt, "text": text}})
}

func curlewSay(rw http.ResponseWriter, result any) {
	answer(rw, http.StatusOK, map[string]any{"ok": true, "result": result})
}

// curlewPageOf returns a page of a list, counted from one.
func curlewPageOf[T any](list []T, r *http.Request) map[string]any {
	page, _ := strconv.Atoi(r.URL.Query().Get("page"))
	page = max(page, 1)
	pages := max(1, (len(list)+curlewPage-1)/curlewPage)
	start := min((page-1)*curlewPage, len(list))
	return map[string]any{"items": list[start:min(start+curlewPage, len(list))], "page": page, "pages": pages}
}

func (w *World) curlew() http.Handler {
	p := w.state.Providers["curlew"]
	mux := http.NewServeMux()
	type curlewZone struct {
		Number int      `json:"number"`
		Apex   string   `json:"apex"`
		Hosts  []string `json:"hosts"`
	}
	show := func(z *hostedZone) curlewZone {
		n, _ := strconv.ParseInt(strings.TrimPrefix(z.ID, "c-"), 16, 32)
		return curlewZone{int(n), z.Name, p.nameservers(z)}
	}
	with := func(next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
		return func(rw http.ResponseWriter, r *http.Request) {
			n, _ := strconv.Atoi(r.PathValue("number"))
			if z := p.byID(fmt.Sprintf("c-%04x", n)); z != nil {
				next(rw, r, z)
				return
			}
			curlewFail(rw, "unknown_zone", "there is no zone of this number")
		}
	}
	mux.HandleFunc("GET /api/zones", func(rw http.ResponseWriter, r *http.Request) {
		list := []curlewZone{}
		for _, name := range sortedKeys(p.Zones) {
			list = append(list, show(p.Zones[name]))
		}
		curlewSay(rw, curlewPageOf(list, r))
	})
	mux.HandleFunc("POST /api/zones", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Apex    string `json:"apex"`
			Another bool   `json:"another"` // a zone of a name that is there already, with hosts of its own
		}
		if !read(rw, r, &body) {
			return
		}
		name := dns.CanonicalName(body.Apex)
		switch _, ok := dns.IsDomainName(name); {
		case !ok || dns.CountLabel(name) < 2 || !strings.HasSuffix(body.Apex, "."):
			curlewFail(rw, "bad_apex", body.Apex+" cannot be a zone here; write it with its final dot")
		case p.Zones[name] != nil && body.Another:
			z := p.createAnother(name)
			w.changed()
			curlewSay(rw, show(z))
		case p.Zones[name] != nil:
			curlewFail(rw, "zone_is_there", name+" is a zone of this account already")
		default:
			z := p.create(name)
			w.changed()
			curlewSay(rw, show(z))
		}
	})
	mux.HandleFunc("DELETE /api/zones/{number}", with(func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		maps.DeleteFunc(p.Zones, func(_ string, other *hostedZone) bool { return other == z })
		w.changed()
		curlewSay(rw, nil)
	}))
	mux.HandleFunc("GET /api/zones/{number}/records", with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		curlewSay(rw, curlewPageOf(z.curlewRecords(w.shown("6.1", p, z).Records), r))
	}))
	mux.HandleFunc("POST /api/zones/{number}/batches", with(w.curlewAccept))
	mux.HandleFunc("GET /api/receipts/{receipt}", func(rw http.ResponseWriter, r *http.Request) {
		if b := w.batches[r.PathValue("receipt")]; b != nil {
			curlewSay(rw, b)
			return
		}
		curlewFail(rw, "unknown_receipt", "there is no such receipt")
	})
	return w.locked("curlew", keySigned("curlew"), mux)
}

// curlewRecords returns records of the zone with their identifiers, which they get when they are first seen.
func (z *hostedZone) curlewRecords(lines []string) (list []curlewRecord) {
	list = []curlewRecord{}
	for _, line := range lines {
		rr, err := dns.NewRR(line)
		if err != nil || rr == nil {
			continue
		}
		h := rr.Header()
		list = append(list, curlewRecord{z.ref(line), h.Name, dns.TypeToString[h.Rrtype], h.Ttl, strings.TrimPrefix(rr.String(), h.String()), z.Memos[line]})
	}
	return list
}

// ref returns the identifier of a record.
func (z *hostedZone) ref(line string) string {
	if z.Refs == nil {
		z.Refs = map[string]string{}
	}
	if z.Refs[line] == "" {
		z.Numbered++
		z.Refs[line] = fmt.Sprintf("c%d-%x", z.Numbered, 0x5a17+z.Numbered*37)
	}
	return z.Refs[line]
}

// curlewAccept takes a batch, looks at its form, and lets it be done later.
func (w *World) curlewAccept(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
	var body struct {
		Ops []curlewOp `json:"ops"`
	}
	if !read(rw, r, &body) {
		return
	}
	if len(body.Ops) == 0 || len(body.Ops) > curlewMostOps {
		curlewFail(rw, "bad_batch", fmt.Sprintf("a batch has 1 to %d ops", curlewMostOps))
		return
	}
	for i, op := range body.Ops {
		if op.Do != "delete" {
			if problem := op.problem(z); problem != "" {
				curlewFail(rw, "bad_op", fmt.Sprintf("op %d: %s", i+1, problem))
				return
			}
		}
	}
	w.receipts++
	receipt := fmt.Sprintf("r%d", w.receipts)
	w.batches[receipt] = &curlewBatch{State: "waiting"}
	delay := curlewWorks
	w.wait.Go(func() {
		w.sleep(delay)
		for _, op := range body.Ops {
			w.sleep(curlewEach)
			if !w.curlewDo(receipt, z.ID, op) {
				return
			}
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		w.batches[receipt].State = "done"
	})
	answer(rw, http.StatusOK, map[string]any{"ok": true, "result": map[string]string{"receipt": receipt}})
}

func (op curlewOp) problem(z *hostedZone) string {
	switch {
	case !slices.Contains(curlewLadder, op.Lifetime):
		return fmt.Sprintf("the lifetime %d is none of %v", op.Lifetime, curlewLadder)
	case !strings.HasSuffix(op.Owner, ".") || !dns.IsSubDomain(z.Name, op.Owner):
		return fmt.Sprintf("the owner %q is not an absolute name in %s", op.Owner, z.Name)
	}
	if rr, err := dns.NewRR(op.line()); err != nil || rr == nil {
		return fmt.Sprintf("%q cannot be a record", op.line())
	}
	return ""
}

func (op curlewOp) line() string {
	return fmt.Sprintf("%s %d IN %s %s", dns.CanonicalName(op.Owner), op.Lifetime, op.RType, op.Content)
}

// curlewDo does one change of a batch; false where the batch is stuck with it.
func (w *World) curlewDo(receipt, zone string, op curlewOp) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	b := w.batches[receipt]
	stuck := func(problem string) bool {
		b.State, b.Problem = "stuck", fmt.Sprintf("op %d: %s", b.Done+1, problem)
		return false
	}
	b.State = "working"
	z := w.state.Providers["curlew"].byID(zone)
	if z == nil {
		return stuck("the zone is gone")
	}
	old := ""
	if op.Do != "create" {
		for _, line := range z.Records {
			if z.ref(line) == op.RID {
				old = line
			}
		}
		if old == "" {
			return stuck("there is no record " + op.RID)
		}
	}
	records := slices.DeleteFunc(slices.Clone(z.Records), func(line string) bool { return line == old })
	line := ""
	if op.Do != "delete" {
		rr, err := dns.NewRR(op.line())
		if err != nil {
			return stuck(err.Error())
		}
		if line = normalRecord(rr); slices.Contains(records, line) {
			return stuck("the same record is there already")
		}
		records = append(records, line)
	}
	if name := standAlone(records); name != "" {
		return stuck(name + " would have a CNAME beside other data")
	}
	ref := ""
	if old != "" {
		ref = z.Refs[old]
		delete(z.Refs, old)
		delete(z.Memos, old)
	}
	if line != "" {
		if ref == "" {
			ref = z.ref(line)
		}
		z.Refs[line] = ref
		if z.Memos == nil {
			z.Memos = map[string]string{}
		}
		z.Memos[line] = op.Memo
	}
	z.replace(records, []string{op.Do + " " + strings.TrimSpace(cmpOr(line, old))})
	w.changed()
	b.Done++
	return true
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
