package handover

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/evidence"
	"beacon/faulttest"
)

// Evidence that is missing is no evidence that servers are ready.
func TestReadyNeedsEvidence(t *testing.T) {
	set := names("a.example", "b.example")
	ready := evidence.ServerAnswer{Server: evidence.Server{Name: set[0], Address: "192.0.2.1:53"}, Answer: evidence.Positive}
	for name, servers := range map[string][]evidence.ServerAnswer{"no answer at all": nil, "one of two names heard": {ready}} {
		t.Run(name, func(t *testing.T) {
			faulttest.Known(t, func(t testing.TB) { assert.NotEmpty(t, Ready(set, servers, nil)) })
		})
	}
}
