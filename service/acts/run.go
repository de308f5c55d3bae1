package acts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"beacon/clock"
	"beacon/core/access"
	"beacon/core/finding"
	"beacon/outcall"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Performer does one kind of act that users request.
type Performer interface {
	// Locks returns the names of what the act keeps others from.
	Locks(tx *store.Tx, act store.Act) ([]string, error)
	// Next looks at what is outside and decides what to do. It changes nothing.
	Next(ctx context.Context, run *Run) (Decision, error)
	// Became looks at what became of a request that broke off, once its deadline is over.
	Became(ctx context.Context, run *Run, request store.Act) (store.ActState, error)
	// Ended is called in the transaction that ends the act.
	Ended(tx *store.Tx, run *Run, outcome Outcome) error
}

// Decision is either the next request, or the outcome where nothing is left to send.
type Decision struct {
	Request *Request
	Outcome Outcome
}

// Request changes something outside.
type Request struct {
	Kind      string
	AccountID uint64
	Seen      any // before
	Intended  any
	Send      func(ctx context.Context) (receipt string, err error) // the receipt names what the other side accepted and does later
	// Done is called in the transaction that records that it was done; nil where nothing follows from that.
	Done func(tx *store.Tx) error
	Log  string // what the logbook says of it
}

// Outcome is how an act ended.
type Outcome struct {
	State    store.ActState
	Message  string
	Findings []finding.Finding
	Result   any // for the user who asked
}

// Run is an act while it is done.
type Run struct {
	Act   store.Act
	Sent  []store.Act // its requests so far, with what became of them
	job   store.Job
	locks []string
}

// Asked reads what the user asked for.
func (r *Run) Asked(into any) error { return json.Unmarshal([]byte(r.Act.Asked), into) }

// Done reports whether a request of some kind was done.
func (r *Run) Done(kinds ...string) bool {
	for _, sent := range r.Sent {
		for _, kind := range kinds {
			if sent.Kind == kind && sent.State == store.ActDone {
				return true
			}
		}
	}
	return false
}

// Acts does what users ask for. It is safe for concurrent use once all kinds are registered.
type Acts struct {
	store   *store.Store
	logbook *logbook.Book
	jobs    *jobs.Queue
	log     *slog.Logger
	timeout time.Duration // of one request, real time
	lease   time.Duration // of a job, real time
	kinds   map[string]Performer
}

// New returns the acts of a database.
func New(db *store.Store, book *logbook.Book, queue *jobs.Queue, log *slog.Logger, timeout, lease time.Duration) *Acts {
	return &Acts{store: db, logbook: book, jobs: queue, log: log, timeout: timeout, lease: lease, kinds: map[string]Performer{}}
}

// Register adds a kind of what users can ask for.
func (a *Acts) Register(kind string, p Performer) { a.kinds[kind] = p }

// Start stores what a user asks for and has it done in the background. Wake is to be called after the transaction.
func (a *Acts) Start(by access.Caller, tx *store.Tx, kind, subject string, accountID uint64, reason string, asked any) (store.Act, error) {
	text, err := json.Marshal(asked)
	if err != nil {
		return store.Act{}, err
	}
	act := store.Act{Kind: kind, Subject: subject, AccountID: accountID, RequestedBy: by.Name, Reason: reason, State: store.ActPending, Asked: string(text)}
	if err := tx.AddAct(&act); err != nil {
		return act, err
	}
	if err := logbook.Log(tx, act.RequestedBy, kind+".requested", subject, actText(act)); err != nil {
		return act, err
	}
	return act, jobs.EnqueueIn(tx, store.JobAct, act.ID, accountID, a.store.Now())
}

func actText(act store.Act) string {
	text := fmt.Sprintf("act %d", act.ID)
	if act.Reason != "" {
		text += ": " + act.Reason
	}
	return text
}

// Wake has the workers start new acts immediately.
func (a *Acts) Wake() { a.jobs.Wake(store.JobAct) }

// Unfinished returns what a user asked for of a subject and that has not ended; its ID is zero where there is none.
func Unfinished(tx *store.Tx, subject string, kinds ...string) (store.Act, error) {
	return tx.UnfinishedAct(subject, kinds...)
}

// Waiting is the error of an act that goes on once something outside has happened, such as an operation that a registrar does later.
type Waiting string

func (w Waiting) Error() string { return string(w) }

// turn is how long an act that finds its subject locked waits before it asks again, real time.
const turn = 100 * time.Millisecond

// mostRequests bounds how many requests one act makes.
const mostRequests = 12

// Run does an act, or what is left of one that was broken off. Run is its handler.
func (a *Acts) Run(ctx context.Context, job store.Job) error {
	run := &Run{job: job}
	free := false
	err := a.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if run.Act, err = tx.ActByID(job.Subject); err != nil || run.Act.State.Ended() {
			return err
		}
		kind := a.kinds[run.Act.Kind]
		if kind == nil {
			return fmt.Errorf("acts of kind %q are not known", run.Act.Kind)
		}
		if run.locks, err = kind.Locks(tx, run.Act); err != nil {
			return err
		}
		if free, err = Lock(tx, job, run.locks...); err != nil || !free {
			return err
		}
		if run.Act, err = tx.ActByID(job.Subject); err != nil || run.Act.State.Ended() {
			return err
		}
		if err := CheckHold(tx, run.locks...); err != nil {
			return err
		}
		if err = tx.RunAct(run.Act.ID); err != nil {
			return err
		}
		run.Sent, err = tx.ActsOf(run.Act.ID)
		return err
	})
	switch {
	case store.IsMissing(err):
		return nil
	case errors.Is(err, ErrHeld):
		return a.waitOut(ctx, run, err)
	case err != nil || run.Act.State.Ended():
		return err
	case !free:
		return jobs.Later{At: a.store.Now().Add(turn), MadeWay: true}
	}
	err = a.steps(logbook.OnBehalf(ctx, run.Act.RequestedBy), run)
	var wrong *wire.Problem
	var outside *outcall.Error
	var later jobs.Later
	switch {
	case errors.As(err, &later): // something of ours has to end first
		return later
	case err == nil || ctx.Err() != nil || errors.Is(err, store.ErrLeaseLost):
		return err
	case errors.As(err, &outside) && !outcall.Passing(err):
		return a.end(ctx, run, Outcome{State: store.ActFailed, Message: logbook.Explain(err).Error()})
	case errors.As(err, &wrong) && !logbook.Passing(err):
		state := store.ActFailed
		if wrong.Kind == wire.Blocked || wrong.Kind == wire.Invalid {
			state = store.ActBlocked
		}
		return a.end(ctx, run, Outcome{State: state, Message: wrong.Message, Findings: wrong.Findings})
	}
	return a.waitOut(ctx, run, err)
}

// waitOut keeps that trouble that passes holds an act up, and gives it back for a while.
func (a *Acts) waitOut(ctx context.Context, run *Run, problem error) error {
	var next time.Time
	err := a.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		next = a.store.Now().Add(max(jobs.Backoff(run.job.Attempts), outcall.RetryAfterOf(problem)))
		if errors.Is(problem, ErrHeld) {
			next = HeldUntil(a.store.Now())
		}
		if run.Act.TroubleSince == nil {
			if err := logbook.Log(tx, run.Act.RequestedBy, run.Act.Kind+".retrying", run.Act.Subject, fmt.Sprintf("act %d: %s", run.Act.ID, problem)); err != nil {
				return err
			}
		}
		return tx.RetryAct(run.Act.ID, problem.Error(), next)
	})
	if err != nil {
		return err
	}
	return jobs.Later{At: next}
}

// steps finds out what became of requests that broke off, and then looks, decides and sends until nothing is left.
func (a *Acts) steps(ctx context.Context, run *Run) error {
	kind := a.kinds[run.Act.Kind]
	for i, sent := range run.Sent {
		if sent.State != store.ActSent {
			continue
		}
		if err := clock.Pause(ctx, outlasted(sent, a.store.Now())); err != nil {
			return err
		}
		became, err := kind.Became(ctx, run, sent)
		if err != nil {
			return err
		}
		if err := a.close(ctx, run, &run.Sent[i], became, "broken off; looked at afterwards", nil); err != nil {
			return err
		}
	}
	if err := a.outlastOthers(ctx, run); err != nil {
		return err
	}
	for range mostRequests {
		decided, err := kind.Next(ctx, run)
		if err != nil {
			return err
		}
		if decided.Request == nil {
			return a.end(ctx, run, decided.Outcome)
		}
		if err := a.send(ctx, run, decided.Request); err != nil {
			return err
		}
	}
	return wire.Problemf(wire.UpstreamFailed, "What was asked for does not come about: %d requests were made, and the last of them has not had its effect. See the acts of act %d in the logbook.", mostRequests, run.Act.ID)
}

// outlastOthers waits until requests of acts that were cancelled cannot be under way any more.
func (a *Acts) outlastOthers(ctx context.Context, run *Run) error {
	var sent []store.Act
	if err := a.store.Tx(ctx, func(tx *store.Tx) (err error) { sent, err = tx.SentBefore(run.Act.Subject, run.Act.ID); return err }); err != nil {
		return err
	}
	for _, s := range sent {
		if err := clock.Pause(ctx, outlasted(s, a.store.Now())); err != nil {
			return err
		}
	}
	return nil
}

// send stores a request, sends it, and stores its outcome. A request is not broken off where the service stops: what became of it
// would be unclear.
func (a *Acts) send(ctx context.Context, run *Run, r *Request) error {
	act := store.Act{Kind: r.Kind, Subject: run.Act.Subject, ParentID: &run.Act.ID, AccountID: r.AccountID, RequestedBy: run.Act.RequestedBy, Seen: jsonOf(r.Seen), Intended: jsonOf(r.Intended)}
	err := a.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if err := tx.NoteSeen(run.Act.ID, r.Seen); err != nil {
			return err
		}
		act, err = a.Intend(tx, run.job, run.locks, act)
		return err
	})
	if err != nil {
		return err
	}
	run.Sent = append(run.Sent, act)
	sent := &run.Sent[len(run.Sent)-1]
	calling, cancel := outcall.Sending(ctx, act.Deadline.Sub(a.store.Now()), fmt.Sprintf("act %d", run.Act.ID))
	defer cancel()
	act.Receipt, err = r.Send(calling)
	sent.Receipt = act.Receipt
	switch {
	case err == nil:
		return a.close(ctx, run, sent, store.ActDone, "", r)
	case outcall.OutcomeOf(err) == outcall.Unclear:
		if waited := clock.Pause(ctx, outlasted(act, a.store.Now())); waited != nil {
			return waited
		}
		became, lookErr := a.kinds[run.Act.Kind].Became(ctx, run, act)
		if lookErr != nil {
			return lookErr
		}
		done := r
		if became != store.ActDone {
			done = nil
		}
		return a.close(ctx, run, sent, became, err.Error(), done)
	}
	if closeErr := a.close(ctx, run, sent, store.ActNotApplied, err.Error(), nil); closeErr != nil {
		return closeErr
	}
	return err
}

// close records the outcome of a request, under lease and locks. r is the request where what follows from it is known.
func (a *Acts) close(ctx context.Context, run *Run, sent *store.Act, state store.ActState, problem string, r *Request) error {
	sent.State, sent.Problem = state, problem
	return a.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := Hold(tx, run.job, run.locks...); err != nil {
			return err
		}
		if err := tx.CloseAct(sent.ID, state, problem); err != nil {
			return err
		}
		if sent.Receipt != "" {
			if err := tx.SetReceipt(sent.ID, sent.Receipt); err != nil {
				return err
			}
		}
		if r != nil && r.Done != nil {
			if err := r.Done(tx); err != nil {
				return err
			}
		}
		detail := fmt.Sprintf("act %d, request %d: %s", run.Act.ID, sent.ID, state)
		if r != nil && r.Log != "" {
			detail += ", " + r.Log
		}
		if problem != "" {
			detail += ": " + problem
		}
		return logbook.Log(tx, run.Act.RequestedBy, sent.Kind, run.Act.Subject, detail)
	})
}

func (a *Acts) end(ctx context.Context, run *Run, o Outcome) error {
	return a.store.Tx(ctx, func(tx *store.Tx) error {
		if err := Hold(tx, run.job, run.locks...); err != nil {
			return err
		}
		if err := a.record(tx, run, o); err != nil {
			return err
		}
		return jobs.Finish(tx, run.job)
	})
}

func (a *Acts) record(tx *store.Tx, run *Run, o Outcome) error {
	if err := tx.EndAct(run.Act.ID, o.State, o.Message, o.Findings, o.Result); err != nil {
		return err
	}
	if kind := a.kinds[run.Act.Kind]; kind != nil {
		if err := kind.Ended(tx, run, o); err != nil {
			return err
		}
	}
	return logbook.Log(tx, run.Act.RequestedBy, run.Act.Kind+"."+string(o.State), run.Act.Subject, fmt.Sprintf("act %d: %s", run.Act.ID, o.Message))
}

func jsonOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types only
	}
	return string(text)
}
