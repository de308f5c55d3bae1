package resolve

import (
	"context"
	"sync"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
)

// keysOf is the DNSKEY set of a zone above, which one check of a round fetches for all.
type keysOf struct {
	done    chan struct{}
	keys    dnssec.Records
	problem string
}

func (s *Sweeper) judgesSignatures() bool { return len(s.Anchors) > 0 }

// keysSoon begins to fetch a zone's keys, where nobody has yet.
func (w *walk) keysSoon(ctx context.Context, zone dnsname.Name, servers []evidence.Server) {
	w.mu.Lock()
	if w.keys[zone] != nil {
		w.mu.Unlock()
		return
	}
	k := &keysOf{done: make(chan struct{})}
	w.keys[zone] = k
	w.mu.Unlock()
	w.busy.Go(func() {
		defer close(k.done)
		r, err := w.firstAnswer(ctx, servers, Question{Name: zone.String(), Type: dns.TypeDNSKEY, Signed: true})
		if err != nil {
			k.problem = "asking for the keys of " + inWords(zone) + ": " + err.Error()
			w.mu.Lock()
			delete(w.keys, zone) // the next check of the round may have more luck
			w.mu.Unlock()
			return
		}
		k.keys = dnssec.Records(r.Answer)
	})
}

// zoneKeys waits for the keys of a zone that keysSoon was called for.
func (w *walk) zoneKeys(ctx context.Context, zone dnsname.Name) (dnssec.Records, string) {
	w.mu.Lock()
	k := w.keys[zone]
	w.mu.Unlock()
	if k == nil {
		return nil, "the keys of " + inWords(zone) + " could not be fetched"
	}
	select {
	case <-k.done:
		return k.keys, k.problem
	case <-ctx.Done():
		return nil, ctx.Err().Error()
	}
}

// chainTo returns the links from the root to a zone whose servers are known.
func (w *walk) chainTo(ctx context.Context, zone dnsname.Name) []dnssec.Link {
	var zones []dnsname.Name
	for at := zone; ; {
		zones = append([]dnsname.Name{at}, zones...)
		w.mu.Lock()
		z := w.zones[at]
		w.mu.Unlock()
		if at.IsRoot() || z == nil {
			break
		}
		at = z.parent
	}
	var links []dnssec.Link
	for i, at := range zones {
		l := dnssec.Link{Zone: at.String()}
		if i > 0 {
			w.mu.Lock()
			ds := w.zones[at].ds
			w.mu.Unlock()
			if len(ds) == 0 && links[len(links)-1].Keys.Signed() { // the referral was silent: ask
				more, own := w.cutsBetween(ctx, zones[i-1], at)
				links = append(links, more...)
				ds = own
			}
			l.DS = ds
		}
		w.mu.Lock()
		started := w.keys[at] != nil
		w.mu.Unlock()
		if !started {
			z, servers := w.known(at)
			list, _ := w.serversOf(ctx, servers, nil)
			w.keysSoon(ctx, z, list)
		}
		l.Keys, l.Problem = w.zoneKeys(ctx, at)
		links = append(links, l)
	}
	return links
}

// cutsBetween asks the servers of a zone for the DS records of every name down to one below it: the servers may serve zones in
// between as well, whose referrals they leave out. It gives the links of those, and what is said of the name itself.
func (w *walk) cutsBetween(ctx context.Context, zone, below dnsname.Name) (links []dnssec.Link, own dnssec.Records) {
	_, servers := w.known(zone)
	list, _ := w.serversOf(ctx, servers, nil)
	var names []dnsname.Name
	for at := below; at != zone && !at.IsRoot(); at = at.Parent() {
		names = append([]dnsname.Name{at}, names...)
	}
	answers, keys := make([]dnssec.Records, len(names)), make([]dnssec.Records, len(names))
	var wait sync.WaitGroup
	for i, name := range names {
		wait.Go(func() {
			if r, err := w.firstAnswer(ctx, list, Question{Name: name.String(), Type: dns.TypeDS, Signed: true}); err == nil {
				answers[i] = aboutKeys(r.Msg, name)
			}
		})
		if name != below {
			wait.Go(func() {
				if r, err := w.firstAnswer(ctx, list, Question{Name: name.String(), Type: dns.TypeDNSKEY, Signed: true}); err == nil && r.Authoritative {
					keys[i] = dnssec.Records(r.Answer)
				}
			})
		}
	}
	wait.Wait()
	for i, name := range names[:len(names)-1] {
		if len(answers[i].DS()) > 0 || len(keys[i].Keys()) > 0 || w.isCut(ctx, list, name) {
			links = append(links, dnssec.Link{Zone: name.String(), DS: answers[i], Keys: keys[i]})
		}
	}
	return links, answers[len(names)-1]
}

// isCut asks whether a zone of its own begins at a name.
func (w *walk) isCut(ctx context.Context, list []evidence.Server, name dnsname.Name) bool {
	r, err := w.firstAnswer(ctx, list, Question{Name: name.String(), Type: dns.TypeSOA})
	if err != nil {
		return false
	}
	_, owner, ok := soaIn(r.Answer, dnsname.Name{}, "")
	return ok && owner == name
}
