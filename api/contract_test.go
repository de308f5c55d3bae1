package api

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// send is ask with headers.
func (s *site) send(method, path, body string, headers map[string]string) (int, http.Header, string) {
	s.t.Helper()
	req := httptest.NewRequest(method, Base+path, strings.NewReader(body))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+s.token)
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	w := httptest.NewRecorder()
	s.handler.ServeHTTP(w, req)
	return w.Code, w.Header(), w.Body.String()
}

// A request that names itself is carried out once, however often it is sent.
func TestRequestsWithAKey(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	key := map[string]string{"Idempotency-Key": "import-1"}
	body := `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`
	status, _, first := s.send("POST", "/zones/pier.example/imports", body, key)
	require.Equal(t, http.StatusOK, status, first)
	status, header, again := s.send("POST", "/zones/pier.example/imports", body, key)
	assert.Equal(t, http.StatusOK, status)
	assert.JSONEq(t, first, again, "the first answer")
	assert.Equal(t, "true", header.Get("Idempotent-Replayed"))

	status, _, other := s.send("POST", "/zones/pier.example/imports", strings.Replace(body, "192.0.2.1", "192.0.2.2", 1), key)
	assert.Equal(t, http.StatusUnprocessableEntity, status, "another request with the same key: %s", other)
	_, _, records := s.send("GET", "/zones/pier.example/records", "", nil)
	assert.Contains(t, records, "192.0.2.1")
	assert.NotContains(t, records, "192.0.2.2")

	status, _, wrong := s.send("POST", "/zones/pier.example/imports", `{"file":"f","text":"x"}`, map[string]string{"Idempotency-Key": "import-2"})
	assert.Equal(t, http.StatusUnprocessableEntity, status, wrong)
	status, _, right := s.send("POST", "/zones/pier.example/imports", body, map[string]string{"Idempotency-Key": "import-2"})
	assert.Equal(t, http.StatusOK, status, "one that failed may be sent again: %s", right)

	key["Idempotency-Key"] = "user-1"
	status, _, made := s.send("POST", "/users", `{"name":"ines"}`, key)
	require.Equal(t, http.StatusCreated, status, made)
	status, _, again = s.send("POST", "/users", `{"name":"ines"}`, key)
	assert.Equal(t, http.StatusConflict, status)
	var user struct{ Password string }
	require.NoError(t, json.Unmarshal([]byte(made), &user))
	assert.NotContains(t, again, user.Password, "a secret is shown once, and kept nowhere")
}

// What people edit has an ETag; a change under an old one changes nothing.
func TestChangesUnderATag(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, body := s.send("POST", "/zones/pier.example/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`, nil)
	require.Equal(t, http.StatusOK, status, body)
	_, header, _ := s.send("GET", "/zones/pier.example", "", nil)
	assert.NotEmpty(t, header.Get("ETag"))
	_, header, _ = s.send("GET", "/zones/pier.example/settings", "", nil)
	tag := header.Get("ETag")
	require.NotEmpty(t, tag)
	status, header, body = s.send("PUT", "/zones/pier.example/settings", `{"drift":"revert"}`, map[string]string{"If-Match": tag})
	require.Equal(t, http.StatusOK, status, body)
	assert.NotEqual(t, tag, header.Get("ETag"))
	status, _, body = s.send("PUT", "/zones/pier.example/settings", `{"drift":"adopt"}`, map[string]string{"If-Match": tag})
	assert.Equal(t, http.StatusPreconditionFailed, status, body)
	_, _, body = s.send("GET", "/zones/pier.example/settings", "", nil)
	assert.Contains(t, body, `"drift":"revert"`)
	status, _, body = s.send("PUT", "/zones/pier.example/settings", `{"drift":"manual"}`, nil)
	assert.Equal(t, http.StatusOK, status, body)
}

// Parameters of lists are checked, not guessed.
func TestParametersOfLists(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for path, reason := range map[string]string{
		"/zones?limit=0": "from 1 on", "/zones?limit=ten": "number of entries", "/zones?limit=-1": "from 1 on", "/zones?limit=1&limit=2": "2 times",
		"/zones?cursor=a..b": "cursor", "/logbook?cursor=x": "cursor", "/acts?cursor=-1": "cursor", "/zones?pages=2": `no parameter \"pages\"`, "/me?x=1": "It has none",
	} {
		status, _, body := s.send("GET", path, "", nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, path)
		assert.Contains(t, body, reason, path)
	}
	status, _, _ := s.send("GET", "/zones?limit=5000", "", nil)
	assert.Equal(t, http.StatusOK, status, "more than a page may have")
}

// What the document calls required of a request is: without it the request is refused.
func TestRequiredFieldsAreRequired(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, body := s.send("POST", "/zones/pier.example/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`, nil)
	require.Equal(t, http.StatusOK, status, body)
	document, err := json.Marshal(Document())
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			RequestBody *struct {
				Content map[string]struct {
					Schema struct {
						Ref string `json:"$ref"`
					}
				}
			}
		}
		Components struct {
			Schemas map[string]struct {
				Required   []string
				Properties map[string]struct{ Examples []any }
			}
		}
	}
	require.NoError(t, json.Unmarshal(document, &doc))
	checked := 0
	for path, operations := range doc.Paths {
		for method, op := range operations {
			if op.RequestBody == nil {
				continue
			}
			schema := doc.Components.Schemas[strings.TrimPrefix(op.RequestBody.Content["application/json"].Schema.Ref, "#/components/schemas/")]
			require.NotEmpty(t, schema.Properties, "%s %s", method, path)
			for _, missing := range schema.Required {
				sent := map[string]any{}
				for _, field := range schema.Required {
					if examples := schema.Properties[field].Examples; field != missing && len(examples) > 0 {
						sent[field] = examples[0]
					}
				}
				text, err := json.Marshal(sent)
				require.NoError(t, err)
				at := strings.NewReplacer("{name}", "pier.example", "{id}", "1", "{owner}", "www", "{type}", "A").Replace(path)
				status, _, answer := s.send(strings.ToUpper(method), at, string(text), nil)
				assert.GreaterOrEqual(t, status, 400, "%s %s without %s: %s", method, path, missing, answer)
				assert.Less(t, status, 500, "%s %s without %s: %s", method, path, missing, answer)
				checked++
			}
		}
	}
	assert.Greater(t, checked, 15)
}
