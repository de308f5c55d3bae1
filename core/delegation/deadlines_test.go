package delegation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/core/arrival"
	"beacon/core/finding"
)

func TestDeadlines(t *testing.T) {
	soon, later := start.Add(10*24*time.Hour), start.Add(40*24*time.Hour)
	r := Report{
		Findings: []finding.Finding{{Code: "registration-ends-soon", Severity: finding.Warning, Subject: "pier.example", By: &soon}, {Code: "no-tcp", Severity: finding.Warning},
			{Code: "renews-itself", Severity: finding.Notice, By: &soon}},
		Arrival: &arrival.Report{Findings: []finding.Finding{{Code: "certificate-ends-soon", Severity: finding.Warning, Subject: "www.pier.example", By: &soon}}},
	}
	registration := Deadline{"registration-ends-soon", "pier.example", soon}
	certificate := Deadline{"certificate-ends-soon", "www.pier.example", soon}
	assert.Equal(t, []Deadline{registration, certificate}, r.Deadlines())

	moved := registration
	moved.By = later
	nearly := registration
	nearly.By = soon.Add(2 * time.Hour)
	for _, c := range []struct {
		name       string
		told, news []Deadline
	}{
		{"nothing was told", nil, []Deadline{registration, certificate}},
		{"one was told", []Deadline{certificate}, []Deadline{registration}},
		{"both were told", []Deadline{certificate, registration}, nil},
		{"it moved by two hours", []Deadline{certificate, nearly}, nil},
		{"it is another year's", []Deadline{certificate, moved}, []Deadline{registration}},
	} {
		assert.Equal(t, c.news, Unheard(r.Deadlines(), c.told), c.name)
	}

	assert.Equal(t, []Deadline{certificate, registration}, StillAhead([]Deadline{certificate}, []Deadline{registration}, start), "what vanishes for a while is not told again")
	assert.Equal(t, []Deadline{registration}, StillAhead([]Deadline{nearly}, []Deadline{registration}, start), "the newer date stands for both")
	assert.Empty(t, StillAhead([]Deadline{certificate}, nil, soon.Add(time.Second)), "what is over is forgotten")
}
