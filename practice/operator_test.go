package practice_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/practice/practicetest"
)

// The operator changes a record by hand, and the nameservers answer it at once; nonsense is refused in words.
func TestOperator(t *testing.T) {
	w := practicetest.Start(t, 1)
	key := []string{"Heron-Key", "heron-practice-key"}
	_, _, _ = call(t, "POST", w.URL("heron")+"/v1/zones", `{"domain":"one.example"}`, key...)
	post := func(values url.Values) (int, string) {
		status, _, text := call(t, "POST", w.URL("heron")+"/operator", values.Encode(), "Content-Type", "application/x-www-form-urlencoded")
		return status, text
	}
	status, text := post(url.Values{"zone": {"one.example."}, "line": {"www.one.example. 300 IN A 192.0.2.7"}})
	require.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, "www.one.example. 300 IN A 192.0.2.7")
	_, text = post(url.Values{"zone": {"one.example."}, "line": {"www.one.example. 300 IN A 192.0.2.8"}})
	assert.NotContains(t, text, "192.0.2.7<", "it takes the place of what was there")
	for line, says := range map[string]string{"www.one.example. 300 IN A nonsense": "is no record", "elsewhere.test. 1 IN A 192.0.2.1": "is no record", "www.one.example. 1 IN CNAME x.": "CNAME beside other data"} {
		status, text = post(url.Values{"zone": {"one.example."}, "line": {line}})
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		assert.Contains(t, text, says)
	}
	status, text = post(url.Values{"zone": {"none.example."}, "line": {"x"}})
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "no zone none.example.")
	status, text = post(url.Values{"zone": {"one.example."}, "drop": {"www.one.example. 300 IN A 192.0.2.8"}})
	assert.Equal(t, http.StatusOK, status)
	assert.NotContains(t, text, "192.0.2.8")
}

// Each key may do what it is for, and no more.
func TestKeysAndTheirRights(t *testing.T) {
	w := practicetest.Start(t, 1)
	for key, may := range map[string]map[string]int{
		"heron-viewer-key": {"GET": 200, "POST": 403}, "heron-editor-key": {"GET": 200, "POST": 403},
		"heron-practice-key": {"GET": 200, "POST": 201}, "no-key": {"GET": 401, "POST": 401},
	} {
		for method, want := range may {
			status, _, text := call(t, method, w.URL("heron")+"/v1/zones", `{"domain":"`+strings.ToLower(key)+`.example"}`, "Heron-Key", key)
			assert.Equal(t, want, status, "%s %s: %s", method, key, text)
		}
	}
	status, _, text := call(t, "GET", w.URL("heron")+"/v1/whoami", "", "Heron-Key", "heron-owner-key")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "keys")
	status, _, _ = call(t, "GET", w.URL("curlew")+"/api/zones", "", "Curlew-Auth", "desk deadbeef", "Curlew-Date", "2020-01-01T00:00:00Z")
	assert.Equal(t, 401, status, "an old signature is none")
}
