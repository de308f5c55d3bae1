package finding

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOrder(t *testing.T) {
	list := []Finding{{Code: "b", Severity: Notice}, {Code: "b", Severity: Error, Subject: "y"}, {Code: "b", Severity: Error, Subject: "x"},
		{Code: "a", Severity: Error}, {Code: "a", Severity: Warning}}
	Sort(list)
	var got []string
	for _, f := range list {
		got = append(got, f.Severity.String()+" "+f.Code+f.Subject)
	}
	assert.Equal(t, []string{"error a", "error bx", "error by", "warning a", "notice b"}, got)
	assert.Equal(t, Error, Worst(list))
	assert.Equal(t, Severity(0), Worst(nil))
}

func TestSeverityIsAWord(t *testing.T) {
	for _, s := range []Severity{Notice, Warning, Error} {
		text, err := json.Marshal(Finding{Severity: s})
		require.NoError(t, err)
		assert.Contains(t, string(text), `"severity":"`+s.String()+`"`)
		var back Finding
		require.NoError(t, json.Unmarshal(text, &back))
		assert.Equal(t, s, back.Severity)
	}
	var s Severity
	assert.ErrorContains(t, s.UnmarshalText([]byte("grave")), "use notice, warning or error")
	assert.Error(t, s.UnmarshalText(nil))
}
