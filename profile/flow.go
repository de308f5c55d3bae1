package profile

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"beacon/outcall"
)

// Bounds of one section of a profile.
const (
	mostSteps    = 20
	mostTurns    = 10_000 // requests that one loop makes
	repeats      = 3      // tries of a request that is safe to repeat
	repeatPause  = 50 * time.Millisecond
	wayOutBudget = 10 * time.Second // for requests that undo what was begun
)

// do makes the requests of a section, one after the other, and returns the answer of the last. Where one fails, what was begun is undone, as
// far as the profile says how.
func (d *caller) do(ctx context.Context, c *call, q question) (answer, error) {
	if c.changes() {
		q.body.Key = d.keyOf(ctx, c, q)
	}
	run := flow{caller: d, q: q}
	for _, step := range c.before {
		a, skipped, err := run.step(ctx, step)
		if err != nil && step.commits && outcall.OutcomeOf(err) == outcall.Unclear {
			run.begun = nil
		}
		if err != nil {
			return a, run.wayOut(ctx, err)
		}
		if skipped {
			continue
		}
		for _, t := range step.take {
			value, err := run.taken(ctx, t, a)
			if err != nil {
				return a, run.wayOut(ctx, err)
			}
			run.vars = run.vars.with(t.name, value)
		}
		switch {
		case step.undo != nil:
			run.begun = append(run.begun, step.undo)
		case step.commits:
			run.begun, run.changed = nil, true
		case step.changes() && len(run.begun) == 0: // else it goes with what was begun
			run.changed = true
		}
	}
	a, skipped, err := run.step(ctx, c)
	if outcall.OutcomeOf(err) == outcall.Unclear { // it may count already: to undo what it is made of could do harm
		run.begun = nil
	}
	if err != nil {
		return a, run.wayOut(ctx, err)
	}
	if skipped {
		a.body, a.headers, a.zone, a.vars = json.RawMessage("null"), map[string]string{}, shapeZone(q.zone), run.vars
	}
	return a, nil
}

// keyOf returns a text that is the same for every attempt at a change, and another for every other change.
func (d *caller) keyOf(ctx context.Context, c *call, q question) string {
	body := q.body
	body.Zone, body.Mark = shapeZone(q.zone), ""
	text, _ := json.Marshal(body) // texts and numbers always encode
	scope := outcall.ScopeOf(ctx)
	if scope == "" {
		scope = rand.Text()
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{d.client.Account, d.client.Base, scope, c.method, c.path.Raw(), string(text)}, "\x00")))
	return hex.EncodeToString(sum[:16])
}

// flow is a section while its requests are made.
type flow struct {
	*caller
	q       question
	vars    vars
	begun   []*call // requests that undo what was done so far, in the order in which it was done
	changed bool    // something was changed that no request undoes
}

// step makes one request; where the step is a loop, one for each thing, and where its answer has pages, one for each page.
func (f *flow) step(ctx context.Context, c *call) (a answer, skipped bool, err error) {
	if c.when != "" {
		input := f.q.body
		input.Zone = shapeZone(f.q.zone)
		text, err := f.one(ctx, c.when, input, f.vars)
		if err != nil {
			return a, false, f.unmade("when", err)
		}
		if s := string(text); s == "false" || s == "null" {
			return a, true, nil
		}
	}
	if c.loop == "" {
		a, err = f.pages(ctx, c, f.vars)
		return a, false, err
	}
	input := f.q.body
	input.Zone, input.Mark = shapeZone(f.q.zone), f.q.mark
	names, values := f.vars.list()
	items, err := f.pool().Run(ctx, string(c.loop), input, names, values)
	if err != nil {
		return a, false, f.unmade("for", err)
	}
	if len(items) > mostTurns {
		return a, false, f.cannot(fmt.Sprintf("for returns %d things; at most %d are gone through", len(items), mostTurns))
	}
	list := []answer{{body: json.RawMessage("null"), headers: map[string]string{}, zone: shapeZone(f.q.zone), vars: f.vars}}
	for i, item := range items {
		one, err := f.pages(ctx, c, f.vars.with("item", item))
		if err != nil {
			f.changed = f.changed || i > 0 && c.changes() && len(f.begun) == 0
			return one, false, err
		}
		more := one.more
		one.more = nil
		list = append(append(list, one), more...)
	}
	if len(items) > 0 {
		list = list[1:]
	}
	a = list[0]
	a.more = list[1:]
	return a, false, nil
}

// pages makes a request, and more of it as long as its answer goes on, where that is part of the step.
func (f *flow) pages(ctx context.Context, c *call, v vars) (answer, error) {
	a, err := f.surely(ctx, c, f.q, v)
	if err != nil || !c.within {
		return a, err
	}
	last, q := a, f.q
	seen := map[string]bool{}
	for {
		next, err := f.next(ctx, c, last)
		if err != nil || next == "" {
			return a, err
		}
		if seen[next] || len(seen) >= mostTurns {
			return a, f.client.Unreadable(last.asked, errors.New("its pages go in a circle"))
		}
		seen[next] = true
		q.cursor = next
		if last, err = f.surely(ctx, c, q, v); err != nil {
			return a, err
		}
		a.more = append(a.more, last)
	}
}

// surely makes a request, and again where it broke off and may be repeated: reads always, within a section of several requests.
func (f *flow) surely(ctx context.Context, c *call, q question, v vars) (a answer, err error) {
	unclear := false
	for try := 1; ; try++ {
		a, err = f.once(ctx, c, q, v)
		var e *outcall.Error
		if unclear && errors.As(err, &e) { // an earlier try may have done it: that this one is refused says nothing of that
			with := *e
			with.Outcome, err = outcall.Unclear, &with
		}
		unclear = unclear || err != nil && c.changes() && outcall.OutcomeOf(err) == outcall.Unclear
		again := c.repeat || f.several(c) && !c.changes()
		if err == nil || !again || outcall.KindOf(err) != outcall.Unavailable || try == repeats || ctx.Err() != nil {
			return a, err
		}
		select {
		case <-ctx.Done():
			return a, err
		case <-time.After(time.Duration(try) * repeatPause):
		}
	}
}

// several reports whether a request is one of several.
func (f *flow) several(c *call) bool { return c.loop != "" || f.changed || len(f.begun) > 0 || c.among }

// taken evaluates what a step takes from its answer.
func (f *flow) taken(ctx context.Context, t let, a answer) (json.RawMessage, error) {
	results, err := f.results(ctx, "take."+t.name, t.value, a)
	if err != nil {
		return nil, err
	}
	if len(results) == 1 {
		return results[0], nil
	}
	if a.more == nil && len(results) == 0 {
		return json.RawMessage("null"), nil
	}
	list, err := json.Marshal(results)
	return list, err
}

// wayOut undoes what was begun, and returns the error with what is known of the outcome then.
func (f *flow) wayOut(ctx context.Context, err error) error {
	var e *outcall.Error
	if !errors.As(err, &e) {
		return err
	}
	if len(f.begun) > 0 {
		out, cancel := context.WithTimeout(context.WithoutCancel(ctx), wayOutBudget)
		defer cancel()
		for i := len(f.begun) - 1; i >= 0; i-- {
			if _, undoErr := f.surely(out, f.begun[i], f.q, f.vars); undoErr != nil && outcall.KindOf(undoErr) != outcall.NotFound {
				f.changed = true
			}
		}
	}
	if f.changed && e.Outcome != outcall.Unclear {
		with := *e
		with.Outcome = outcall.Unclear
		return &with
	}
	return err
}

// changes reports whether a request may change something.
func (c *call) changes() bool {
	return c.method != http.MethodGet && !c.reads
}

// following is the cursor of the page after an answer; empty at the end, and where the section follows its pages by itself.
func (d *caller) following(ctx context.Context, c *call, a answer, offset, items int) (string, error) {
	if c.within {
		return "", nil
	}
	next, err := d.next(ctx, c, a)
	return joinCursor(c, next, offset, items), err
}

// splitCursor takes a cursor apart that also says how many items came before.
func splitCursor(c *call, cursor string) (rest string, offset int) {
	if !c.counts {
		return cursor, 0
	}
	count, rest, _ := strings.Cut(cursor, "|")
	offset, _ = strconv.Atoi(count) // of our own making
	return rest, offset
}

// joinCursor is the cursor of the page after one with so many items.
func joinCursor(c *call, next string, offset, items int) string {
	if !c.counts || next == "" {
		return next
	}
	return strconv.Itoa(offset+items) + "|" + next
}
