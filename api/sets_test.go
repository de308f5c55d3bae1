package api

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One call writes one set: a revision of its own, under a condition where one is given, and the draft stays as it is.
func TestOneSetIsWritten(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	body, err := json.Marshal(map[string]any{"files": []map[string]string{{"name": "x", "text": "zones:\n  tidepool.example:\n    records: |\n      www A 192.0.2.1\n"}}, "dry_run": false, "manage": false, "reason": ""})
	require.NoError(t, err)
	status, _, _ := s.ask("POST", Base+"/definitions", string(body))
	require.Equal(t, http.StatusOK, status)
	zone := Base + "/zones/tidepool.example"
	_, h, _ := s.ask("GET", zone+"/draft", "")
	s.tag = h.Get("ETag")
	status, _, _ = s.ask("POST", zone+"/draft/edits", `{"records":[{"before":null,"after":{"name":"cam.tidepool.example.","type":"A","ttl":60,"data":"192.0.2.9"}}],"sets":[],"undo":[]}`)
	require.Equal(t, http.StatusOK, status)
	s.tag = ""

	path := zone + "/sets/_acme-challenge/TXT"
	status, _, _ = s.ask("GET", path, "")
	assert.Equal(t, http.StatusNotFound, status)
	status, h, got := s.ask("PUT", path, `{"data":["\"one\""],"ttl":60}`)
	require.Equal(t, http.StatusAccepted, status, got)
	first := h.Get("ETag")
	assert.Equal(t, true, got["changed"])
	assert.EqualValues(t, 2, got["revision"].(map[string]any)["number"])
	status, h, got = s.ask("GET", path, "")
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, first, h.Get("ETag"))
	assert.Equal(t, []any{`"one"`}, got["data"])

	s.tag = `"something else"`
	status, _, _ = s.ask("PUT", path, `{"data":["\"two\""]}`)
	assert.Equal(t, http.StatusPreconditionFailed, status)
	s.tag = first
	status, h, got = s.ask("PUT", path, `{"data":["\"two\"","\"three\""]}`)
	require.Equal(t, http.StatusAccepted, status, got)
	assert.EqualValues(t, 60, got["after"].(map[string]any)["ttl"], "the TTL of the set before")
	status, _, _ = s.ask("DELETE", path, "")
	assert.Equal(t, http.StatusPreconditionFailed, status, "it has changed since")
	s.tag = h.Get("ETag")
	status, _, got = s.ask("DELETE", path, "")
	require.Equal(t, http.StatusAccepted, status, got)
	s.tag = ""
	status, _, got = s.ask("DELETE", path, "")
	require.Equal(t, http.StatusAccepted, status, got)
	assert.Equal(t, false, got["changed"], "it was gone already")

	for _, c := range []struct {
		path, body string
		status     int
	}{
		{zone + "/sets/www/A", `{"data":["https://x"]}`, http.StatusUnprocessableEntity},
		{zone + "/sets/www/A", `{"data":[]}`, http.StatusUnprocessableEntity},
		{zone + "/sets/www/WORD", `{"data":["x"]}`, http.StatusUnprocessableEntity},
		{zone + "/sets/www.elsewhere.test./A", `{"data":["192.0.2.1"]}`, http.StatusUnprocessableEntity},
		{zone + "/sets/@/SOA", `{"data":["a. b. 1 2 3 4 5"]}`, http.StatusUnprocessableEntity},
		{zone + "/sets/www/CNAME", `{"data":["x"]}`, http.StatusUnprocessableEntity},
		{Base + "/zones/nowhere.example/sets/www/A", `{"data":["192.0.2.1"]}`, http.StatusNotFound},
	} {
		status, _, got := s.ask("PUT", c.path, c.body)
		assert.Equal(t, c.status, status, "%s %s: %v", c.path, c.body, got)
	}
	_, _, draft := s.ask("GET", zone+"/draft", "")
	assert.Len(t, draft["edits"], 1, "the draft is as it was")
}
