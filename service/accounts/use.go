package accounts

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"beacon/looking"
	"beacon/outcall"
	"beacon/service/logbook"
	"beacon/store"
)

// observe puts every request to a provider or registrar into the logbook.
func (s *Accounts) observe(ctx context.Context, call outcall.Call) {
	detail := fmt.Sprintf("%s %s: %d in %d ms", call.Method, call.Path, call.Status, call.Took.Milliseconds())
	if failed(call) {
		detail = fmt.Sprintf("%s %s: %s (%d ms)", call.Method, call.Path, call.Problem, call.Took.Milliseconds())
	}
	s.recordUse(ctx, call.Account)
	s.calls.WithLabelValues(call.Account, outcomeWord(call)).Inc()
	if looking.Is(ctx) { // a preview leaves no trace in the logbook
		s.log.Debug("request", "account", call.Account, "detail", detail)
		return
	}
	if failed(call) {
		s.logbook.Note(ctx, logbook.Behalf(ctx), "request.failed", call.Account, detail)
		return
	}
	s.logbook.NoteRequest(ctx, call.Account, detail)
}

// useNoted is how exactly it is kept when an account was last used.
const useNoted = 10 * time.Second

// recordUse keeps when an account was last used.
func (s *Accounts) recordUse(ctx context.Context, account string) {
	now := s.store.Now()
	s.usedMu.Lock()
	fresh := now.Sub(s.used[account]) < useNoted
	if !fresh {
		s.used[account] = now
	}
	s.usedMu.Unlock()
	if fresh {
		return
	}
	if err := s.store.Tx(looking.Off(context.WithoutCancel(ctx)), func(tx *store.Tx) error { return tx.Used(account, now) }); err != nil {
		s.log.Error("the use of an account could not be noted", "account", account, "error", err)
	}
}

// failed reports whether a request failed. That what was asked for is not there is an answer.
func failed(call outcall.Call) bool {
	return call.Problem != "" && !(call.Method == http.MethodGet && call.Status == http.StatusNotFound)
}

func outcomeWord(call outcall.Call) string {
	if failed(call) {
		return "failed"
	}
	return "answered"
}
