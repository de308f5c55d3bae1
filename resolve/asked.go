package resolve

import (
	"context"
	"net/netip"

	"beacon/core/evidence"
)

// ask counts the question against the check's bound.
func (w *walk) ask(ctx context.Context, server evidence.Server, q Question) (Reply, error) {
	var way asked
	w.begin(ctx, &way, server, q)
	return way.end(ctx)
}

// asked is a question of a check on its way.
type asked struct {
	w      *walk
	server evidence.Server
	asking
	err error
}

// begin is the first half of ask; end is the other.
func (w *walk) begin(ctx context.Context, out *asked, to evidence.Server, q Question) {
	out.w, out.server, out.q = w, to, q
	if w.asked.Add(1) > maxQuestions {
		out.err = errTooMany
		return
	}
	var at *server
	out.manner = w.mannerOf(to)
	if at, out.err = w.s.Client.serverAt(to.Address); out.err == nil {
		out.err = w.s.Client.begin(ctx, &out.asking, at, q)
	}
}

func (q *asked) end(ctx context.Context) (r Reply, err error) {
	if err = q.err; err == nil {
		if now := q.w.mannerOf(q.server); now != q.manner { // learned since it was sent: so it will not be answered
			q.asking.abandon()
			to, question := q.asking.s, q.asking.q
			q.asking = asking{manner: now}
			err = q.w.s.Client.begin(ctx, &q.asking, to, question)
		}
		if err == nil {
			r, err = q.asking.end(ctx)
		}
		if err == nil {
			q.w.learn(q.server, mannerOf(r))
		}
	}
	q.w.tape.keep(q.w.s.Now, q.server, q.q, r, err)
	return r, err
}

// mannerOf returns how a server is asked, after what was learned of it in this round.
func (w *walk) mannerOf(server evidence.Server) manner {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.manners[server.Address]
}

func (w *walk) learn(server evidence.Server, m manner) {
	if m == properly {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.manners[server.Address] = m
}

// abandon gives up a question that is on its way.
func (q *asked) abandon() {
	if q.err == nil {
		q.asking.abandon()
	}
}

// askTCP is ask over TCP.
func (w *walk) askTCP(ctx context.Context, server evidence.Server, q Question) (Reply, error) {
	return w.askBy(ctx, server, q, w.s.Client.AskTCP)
}

func (w *walk) askBy(ctx context.Context, server evidence.Server, q Question, by func(context.Context, netip.AddrPort, Question) (Reply, error)) (Reply, error) {
	if w.asked.Add(1) > maxQuestions {
		return Reply{}, errTooMany
	}
	at, err := netip.ParseAddrPort(server.Address)
	if err != nil {
		return Reply{}, err
	}
	r, err := by(ctx, at, q)
	r.Over = OverTCP
	w.tape.keep(w.s.Now, server, q, r, err)
	return r, err
}
