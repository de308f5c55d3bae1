// Package faulttest holds tests of faults that are known and not mended yet. Such a test passes while the fault is there and fails
// once it is gone, so that every commit is green and no mend goes unnoticed.
package faulttest

import (
	"fmt"
	"runtime"
	"sync"
	"testing"
)

// Known runs a test that fails because of a known fault. It fails t where the test passes: then the fault is gone, and Known goes too.
func Known(t *testing.T, test func(t testing.TB)) {
	t.Helper()
	r := &recorder{TB: t}
	var done sync.WaitGroup
	done.Go(func() {
		defer func() {
			if broken := recover(); broken != nil {
				r.Errorf("panic: %v", broken)
			}
		}()
		test(r)
	})
	done.Wait()
	if !r.failed {
		t.Errorf("the fault is gone: take the test out of faulttest.Known")
		return
	}
	t.Logf("known fault: %s", r.said)
}

// recorder is a test whose failure is recorded and not reported.
type recorder struct {
	testing.TB
	mu     sync.Mutex
	failed bool
	said   string
}

func (r *recorder) fail(said string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed = true; r.said == "" {
		r.said = said
	}
}

func (r *recorder) Error(args ...any)                 { r.fail(fmt.Sprint(args...)) }
func (r *recorder) Errorf(format string, args ...any) { r.fail(fmt.Sprintf(format, args...)) }
func (r *recorder) Fail()                             { r.fail("") }
func (r *recorder) FailNow()                          { r.fail(""); runtime.Goexit() }
func (r *recorder) Fatal(args ...any)                 { r.fail(fmt.Sprint(args...)); runtime.Goexit() }
func (r *recorder) Fatalf(format string, args ...any) {
	r.fail(fmt.Sprintf(format, args...))
	runtime.Goexit()
}
func (r *recorder) Failed() bool { r.mu.Lock(); defer r.mu.Unlock(); return r.failed }
func (r *recorder) Helper()      {}
