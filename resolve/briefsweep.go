package resolve

import (
	"context"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/evidence"
)

// sweepBriefly asks the parents for the delegation, and the nameservers for SOA and NS. There may be thousands of domains, so that one
// goroutine does it all, and makes little garbage.
func (w *walk) sweepBriefly(ctx context.Context, scope Scope, out *evidence.Sweep) error {
	ways, err := w.beginParents(ctx, out, true)
	if err != nil {
		return err
	}
	for i := range ways {
		out.Parents[i] = w.readParent(ctx, &ways[i], out.Zone, out.Domain)
	}
	var servers []evidence.Server
	servers, out.NoAddress = w.addressesOf(ctx, namesIn(scope, out.Parents), glueOf(out.Parents))
	out.Servers = make([]evidence.ServerAnswer, len(servers))
	w.askBriefly(ctx, servers, out.Domain, ways[0].q.Name, out.Servers)
	if w.s.judgesSignatures() {
		chain, own := w.chainOf(ctx, out.Zone, out.Parents, out.Domain)
		out.Chain = chain
		keepOwn(out.Parents, own)
	}
	return nil
}

// askBriefly asks servers for SOA and NS of a zone, all at once; name is what it is called in questions.
func (w *walk) askBriefly(ctx context.Context, servers []evidence.Server, domain dnsname.Name, name string, out []evidence.ServerAnswer) {
	ways := make([]asked, 2*len(servers))
	for i, s := range servers {
		w.begin(ctx, &ways[2*i], s, Question{Name: name, Type: dns.TypeSOA, Brief: true})
		w.begin(ctx, &ways[2*i+1], s, Question{Name: name, Type: dns.TypeNS, Brief: true})
	}
	for i, s := range servers {
		out[i].Server = s
		m, err := ways[2*i].end(ctx)
		w.readSOA(&out[i], m, err, domain, name)
		if out[i].Answer != evidence.Positive {
			ways[2*i+1].abandon()
		} else if ns, err := ways[2*i+1].end(ctx); err == nil {
			readNS(&out[i], ns)
		}
	}
}
