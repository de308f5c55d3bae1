package api

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/practice/practicetest"
	"beacon/service"
	"beacon/service/check"
	"beacon/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// site is an API with one person, who is signed in.
type site struct {
	t        testing.TB
	settings service.Settings
	handler  http.Handler
	token    string
	tag      string // for If-Match
}

func newSite(t testing.TB) *site {
	t.Helper()
	s := &site{t: t, settings: newSettings(t)}
	svc := s.open()
	t.Cleanup(svc.Close)
	require.NoError(t, svc.Users.FirstUser(context.Background(), "correct horse"))
	s.handler = New(svc, slog.New(slog.DiscardHandler))
	status, _, body := s.ask("POST", Base+"/sessions", `{"name":"admin","password":"correct horse"}`)
	require.Equal(t, http.StatusCreated, status, body)
	s.token = body["token"].(string)
	return s
}

// open connects a service to the site's database.
func (s *site) open() *service.Service {
	s.t.Helper()
	svc, err := service.Open(context.Background(), s.settings, service.Drivers{}, slog.New(slog.DiscardHandler))
	require.NoError(s.t, err)
	return svc
}

func newSettings(t testing.TB) service.Settings {
	t.Helper()
	w := practicetest.Start(t, 1)
	dir := t.TempDir()
	hints := filepath.Join(dir, "roots.zone")
	require.NoError(t, os.WriteFile(hints, []byte(w.RootHints()), 0o600))
	return service.Settings{Database: storetest.Settings(t), KeyFile: filepath.Join(dir, "key"),
		AllowedNetworks: []string{"127.0.0.0/8"}, HostNames: []string{"example.com"}, DNS: service.DNSSettings{RootHints: hints, Port: netip.MustParseAddrPort(w.DNSAddress("0.1")).Port()},
		Checks: check.CheckSettings{Settling: time.Minute, Settled: time.Hour}, Lease: 4 * time.Second, Request: time.Second, Workers: 1}
}

func (s *site) ask(method, path, body string) (int, http.Header, map[string]any) {
	s.t.Helper()
	req := httptest.NewRequest(method, path, strings.NewReader(body))
	req.Header.Set("Content-Type", "application/json")
	if s.token != "" {
		req.Header.Set("Authorization", "Bearer "+s.token)
	}
	if s.tag != "" {
		req.Header.Set("If-Match", s.tag)
	}
	rec := httptest.NewRecorder()
	s.handler.ServeHTTP(rec, req)
	var out map[string]any
	_ = json.Unmarshal(rec.Body.Bytes(), &out)
	return rec.Code, rec.Result().Header, out
}

// concrete fills the parameters of a route's path.
func concrete(r route) string {
	return Base + strings.NewReplacer(":name", "saltmarsh-ferries.example", ":id", "1").Replace(r.path)
}

func TestEverythingNeedsASignIn(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	token := s.token
	for _, bad := range []string{"", "abs_nonsense"} {
		s.token = bad
		for _, r := range routes() {
			if r.needs == anybody {
				assert.Contains(t, []string{"/sessions", "/sessions/current", "/first-user", "/report"}, r.path, "only signing in, asking whether one is, and reporting with a host's token are open")
				continue
			}
			status, h, body := s.ask(r.method, concrete(r), "{}")
			assert.Equal(t, http.StatusUnauthorized, status, r.path)
			assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
			assert.Equal(t, "Bearer", h.Get("WWW-Authenticate"))
			assert.Contains(t, body["detail"], "beacon sign-in")
		}
	}
	s.token = token
	status, _, body := s.ask("GET", Base+"/me", "")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "admin", body["name"])
	status, _, _ = s.ask("DELETE", Base+"/sessions/current", "")
	assert.Equal(t, http.StatusNoContent, status)
	status, _, _ = s.ask("GET", Base+"/me", "")
	assert.Equal(t, http.StatusUnauthorized, status, "signed out")
}

func TestProblemsSayWhatAndWhatToDo(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/zones/nowhere.example", "", 404, "nowhere.example"},
		{"GET", "/zones/a..b", "", 422, "empty label"},
		{"GET", "/syncs/many", "", 422, "whole number"},
		{"GET", "/syncs/77", "", 404, "sync 77"},
		{"POST", "/sessions", `{"name":"admin","password":"wrong"}`, 401, "wrong"},
		{"POST", "/sessions", `{"nom":"admin"}`, 422, `unknown field "nom"`},
		{"POST", "/sessions", `{} {}`, 422, "more than one"},
		{"POST", "/sessions", `{`, 422, "cannot be read"},
		{"POST", "/definitions", `{"files":[{"name":"f","text":"zones:\n  a.example:\n    recods: x\n"}]}`, 422, "faults"},
		{"POST", "/zones/a.example/syncs", `{}`, 404, "a.example"},
		{"GET", "/domains/a.example/report", "", 404, "a.example"},
		{"GET", "/nothing", "", 404, "/openapi.json"},
		{"PATCH", "/zones", "", 405, "not possible"},
	} {
		status, h, body := s.ask(c.method, Base+c.path, c.body)
		assert.Equal(t, c.status, status, c.path)
		assert.Contains(t, body["detail"], c.says, c.path)
		assert.EqualValues(t, status, body["status"])
		assert.NotEmpty(t, body["title"])
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
	}
	_, _, body := s.ask("POST", Base+"/definitions", `{"files":[{"name":"f","text":"zones:\n  a.example:\n    recods: x\n"}]}`)
	faults := body["faults"].([]any)
	assert.EqualValues(t, 3, faults[1].(map[string]any)["line"])
}

// Zones of classless delegations (RFC 2317) have a slash in their names; what is no name of a zone is refused.
func TestNamesOfZones(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	const part = "/zones/0%2F25.2.0.192.in-addr.arpa"
	status, _, body := s.ask("POST", Base+part+"/imports", `{"partial":true,"file":"f","text":"1 60 PTR pier.example.\n"}`)
	require.Equal(t, http.StatusOK, status, body)
	status, _, body = s.ask("GET", Base+part, "")
	require.Equal(t, http.StatusOK, status, body)
	assert.Equal(t, "0/25.2.0.192.in-addr.arpa.", body["name"])
	status, _, body = s.ask("GET", Base+part+"/records", "")
	require.Equal(t, http.StatusOK, status, body)
	assert.Len(t, body["items"], 1)
	for _, wrong := range []string{"192.0.2.1", "https:%2F%2Fx%2F", "a%2Fb.example", "2001:db8::1", "a%20b.example"} {
		status, _, body := s.ask("POST", Base+"/zones/"+wrong+"/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`)
		require.Equal(t, http.StatusUnprocessableEntity, status, "%s: %v", wrong, body)
		assert.Contains(t, body["detail"], "name", wrong)
	}
}

func TestPages(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, name := range []string{"a", "b", "c"} {
		status, _, body := s.ask("POST", Base+"/zones/"+name+".example/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`)
		require.Equal(t, http.StatusOK, status, body)
	}
	_, _, first := s.ask("GET", Base+"/zones?limit=2", "")
	assert.Len(t, first["items"], 2)
	_, _, second := s.ask("GET", Base+"/zones?limit=2&cursor="+first["next"].(string), "")
	assert.Len(t, second["items"], 1)
	assert.Empty(t, second["next"])
	_, _, lines := s.ask("GET", Base+"/logbook?limit=2", "")
	assert.Len(t, lines["items"], 2)
	assert.NotEmpty(t, lines["next"])
}

func TestHealth(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.token = ""
	for _, path := range []string{"/healthz", "/readyz", Base + "/openapi.json"} {
		status, _, _ := s.ask("GET", path, "")
		assert.Equal(t, http.StatusOK, status, path)
	}
}

// Metrics name accounts: they are for who may see everything.
func TestMetricsNeedASignIn(t *testing.T) {
	w := newWorld(t)
	status, _, _ := w.ask("GET", "/metrics", "")
	assert.Equal(t, http.StatusOK, status)
	for _, c := range []struct {
		token  string
		status int
	}{{"", http.StatusUnauthorized}, {w.as(who{"viewer", true, false}), http.StatusForbidden}, {w.as(who{"sweep", false, true}), http.StatusForbidden}} {
		admin := w.token
		w.token = c.token
		status, _, _ := w.ask("GET", "/metrics", "")
		assert.Equal(t, c.status, status)
		w.token = admin
	}
}

// The document says exactly what the router serves, and every reference in it leads somewhere.
func TestOpenAPIIsTrue(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	served := map[string]bool{}
	for _, r := range s.handler.(*gin.Engine).Routes() {
		if path, ok := strings.CutPrefix(r.Path, Base); ok && path != "/openapi.json" {
			served[r.Method+" "+path] = true
		}
	}
	_, _, document := s.ask("GET", Base+"/openapi.json", "")
	assert.Equal(t, "3.1.0", document["openapi"])
	said := map[string]bool{}
	for path, operations := range document["paths"].(map[string]any) {
		for method := range operations.(map[string]any) {
			said[strings.ToUpper(method)+" "+strings.NewReplacer("{", ":", "}", "").Replace(path)] = true
		}
	}
	assert.Equal(t, served, said)
	schemas := document["components"].(map[string]any)["schemas"].(map[string]any)
	text, err := json.Marshal(document)
	require.NoError(t, err)
	for _, part := range strings.Split(string(text), `"#/components/schemas/`)[1:] {
		name := part[:strings.IndexByte(part, '"')]
		schema, there := schemas[name].(map[string]any)
		require.True(t, there, name)
		assert.NotEmpty(t, schema["type"], name)
	}
}

// Every answer has the fields that its schema requires, and no others.
func TestAnswersMatchTheirSchemas(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, body := s.ask("POST", Base+"/zones/saltmarsh-ferries.example/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n@ NS a.\n"}`)
	require.Equal(t, http.StatusOK, status, body)
	_, _, document := s.ask("GET", Base+"/openapi.json", "")
	schemas := document["components"].(map[string]any)["schemas"].(map[string]any)
	status, _, report := s.ask("POST", Base+"/domains/saltmarsh-ferries.example/checks", "")
	require.Equal(t, http.StatusOK, status)
	_, _, zones := s.ask("GET", Base+"/zones", "")
	_, _, domains := s.ask("GET", Base+"/domains", "")
	_, _, book := s.ask("GET", Base+"/logbook", "")
	for name, answer := range map[string]map[string]any{"Imported": body, "DelegationReport": report, "PageOfZoneView": zones, "PageOfDomainView": domains, "PageOfEntry": book} {
		schema, there := schemas[name].(map[string]any)
		require.True(t, there, "%s is not among %v", name, keys(schemas))
		matches(t, name, answer, schema, schemas)
	}
}

func keys(m map[string]any) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

// matches holds a value against a schema, as far as the schemas here go.
func matches(t *testing.T, where string, value any, schema, all map[string]any) {
	t.Helper()
	if ref, ok := schema["$ref"].(string); ok {
		schema = all[strings.TrimPrefix(ref, "#/components/schemas/")].(map[string]any)
	}
	if one, ok := schema["oneOf"].([]any); ok {
		if value != nil {
			matches(t, where, value, one[0].(map[string]any), all)
		}
		return
	}
	switch schema["type"] {
	case "object":
		fields, ok := value.(map[string]any)
		require.True(t, ok, "%s is %T, not an object", where, value)
		properties := schema["properties"].(map[string]any)
		for _, name := range schema["required"].([]any) {
			assert.Contains(t, fields, name, where)
		}
		for name, field := range fields {
			if assert.Contains(t, properties, name, where) {
				matches(t, where+"."+name, field, properties[name].(map[string]any), all)
			}
		}
	case "array":
		list, ok := value.([]any)
		require.True(t, ok, "%s is %T, not a list", where, value)
		for _, item := range list {
			matches(t, where+"[]", item, schema["items"].(map[string]any), all)
		}
	case "string":
		assert.IsType(t, "", value, where)
	case "integer", "number":
		assert.IsType(t, 0.0, value, where)
	case "boolean":
		assert.IsType(t, true, value, where)
	}
}

// Whoever changes a draft says which one they looked at.
func TestDraftsAskForTheTag(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	text := "zones:\n  tidepool.example:\n    records: |\n      www A 192.0.2.1\n"
	body, err := json.Marshal(map[string]any{"files": []map[string]string{{"name": "x", "text": text}}, "dry_run": false, "manage": false, "reason": ""})
	require.NoError(t, err)
	status, _, _ := s.ask("POST", Base+"/definitions", string(body))
	require.Equal(t, http.StatusOK, status)
	path := Base + "/zones/tidepool.example/draft"
	status, h, seen := s.ask("GET", path, "")
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, `"`+seen["tag"].(string)+`"`, h.Get("ETag"))
	change := `{"records":[{"before":null,"after":{"name":"cam.tidepool.example.","ttl":60,"type":"A","data":"192.0.2.7"}}],"sets":[],"undo":[]}`
	for _, c := range []struct {
		tag    string
		status int
	}{{"", http.StatusPreconditionRequired}, {`"9.9"`, http.StatusPreconditionFailed}, {h.Get("ETag"), http.StatusOK}, {h.Get("ETag"), http.StatusPreconditionFailed}} {
		s.tag = c.tag
		status, h, _ := s.ask("POST", path+"/edits", change)
		assert.Equal(t, c.status, status, c.tag)
		if status == http.StatusOK {
			assert.NotEqual(t, c.tag, h.Get("ETag"))
		}
	}
	_, _, paste := s.ask("POST", Base+"/zones/tidepool.example/recognitions", `{"text":"pier A 192.0.2.9","ttl":60}`)
	assert.Len(t, paste["items"], 1)
	status, _, problem := s.ask("POST", Base+"/zones/tidepool.example/data", `{"type":"MX","fields":{"preference":"x","host":"a"}}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, problem["detail"], "no number from 0 to 65535")
	_, _, joined := s.ask("POST", Base+"/zones/tidepool.example/data", `{"type":"MX","fields":{"preference":"5","host":"mail"}}`)
	assert.Equal(t, "5 mail.tidepool.example.", joined["data"])
}

// Every field and parameter of the document is described, and the comments of the fields are those of the sources.
func TestDocumentDescribesEverything(t *testing.T) {
	document := Document()
	fields := 0
	for name, schema := range document["components"].(object)["schemas"].(object) {
		for field, property := range schema.(object)["properties"].(object) {
			fields++
			assert.NotEmpty(t, property.(object)["description"], "%s.%s", name, field)
			if _, scalar := property.(object)["type"]; scalar && property.(object)["type"] != "array" && property.(object)["type"] != "object" {
				assert.NotEmpty(t, property.(object)["examples"], "%s.%s has no example", name, field)
			}
		}
	}
	assert.Greater(t, fields, 500)
	for path, operations := range document["paths"].(object) {
		for method, operation := range operations.(object) {
			list, _ := operation.(object)["parameters"].([]object)
			for _, p := range list {
				assert.NotEmpty(t, p["description"], "%s %s: %s", method, path, p["name"])
			}
		}
	}
	cmd := exec.Command("go", "run", "./cmd/apidoc", "-fields")
	cmd.Dir = ".."
	made, err := cmd.Output()
	require.NoError(t, err)
	kept, err := os.ReadFile("fields.json")
	require.NoError(t, err)
	assert.True(t, string(made) == string(kept), "the comments of fields have changed; run: go run ./cmd/apidoc -fields > api/fields.json")
}
