package service_test

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/api"
	"beacon/core/access"
	"beacon/service"
	"beacon/store"
	"beacon/wire"
)

// database opens the database of a service by itself.
func database(t *testing.T, s store.Settings) *sql.DB {
	t.Helper()
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr, cfg.DBName, cfg.ParseTime = s.User, s.Password, "unix", s.Socket, s.Database, true
	db, err := sql.Open("mysql", cfg.FormatDSN())
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// rows returns every row of every table as a line, but for when accounts were last used.
func rows(t *testing.T, db *sql.DB) (lines []string) {
	t.Helper()
	tables, err := db.Query("SHOW TABLES")
	require.NoError(t, err)
	var names []string
	for tables.Next() {
		var name string
		require.NoError(t, tables.Scan(&name))
		names = append(names, name)
	}
	tables.Close()
	for _, name := range names {
		list, err := db.Query("SELECT * FROM " + name)
		require.NoError(t, err)
		columns, err := list.Columns()
		require.NoError(t, err)
		for list.Next() {
			cells := make([]sql.RawBytes, len(columns))
			into := make([]any, len(columns))
			for i := range cells {
				into[i] = &cells[i]
			}
			require.NoError(t, list.Scan(into...))
			line := name
			for i, c := range cells {
				if (name != "accounts" || columns[i] != "used_at") && name != "account_paces" { // requests that only look keep the pace, too
					line += fmt.Sprintf(" %s=%q", columns[i], string(c))
				}
			}
			lines = append(lines, line)
		}
		list.Close()
	}
	slices.Sort(lines)
	return lines
}

// bodies are what routes are asked with that take something; every other one gets an empty object.
var bodies = map[string]string{
	"/definitions":                     `{"dry_run":true,"manage":true,"files":[{"name":"x.beacon.yaml","text":"zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.9\n"}]}`,
	"/zones/{name}/imports":            `{"dry_run":true,"partial":true,"file":"x.zone","text":"www 60 A 192.0.2.7\n"}`,
	"/operations":                      `{"dry_run":true,"search":{"address":"192.0.2.1"},"to":"192.0.2.8"}`,
	"/sweeps":                          `{"domain":"saltmarsh-ferries.example"}`,
	"/generated-definitions":           `{"zone":"saltmarsh-ferries.example","from":"plover-old"}`,
	"/zones/{name}/recognitions":       `{"text":"www A 192.0.2.1","ttl":60}`,
	"/zones/{name}/data":               `{"type":"A","fields":{"address":"192.0.2.1"}}`,
	"/zones/{name}/retirement-preview": `{"account":"heron-main"}`,
}

// dry are the routes that write, and look where they are asked for a dry run.
var dry = []string{"/definitions", "/zones/{name}/imports", "/operations"}

// With background work off, no route that looks changes a row: not of what is managed, nor of the logbook.
func TestLookingChangesNothing(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1\nalias ALIAS nowhere.test.")
	h.newHost()
	require.Equal(t, wire.ActDone, h.delegate(wire.DelegateRequest{}).State)
	const password = "seagulls over the quay"
	require.NoError(t, h.Users.FirstUser(ctx, password))
	token, _, err := h.Users.SignIn(ctx, "admin", password, here)
	require.NoError(t, err)
	h.stop()

	idle, err := service.Open(context.Background(), h.settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer idle.Close()
	server := httptest.NewServer(api.New(idle, slog.New(slog.DiscardHandler)))
	defer server.Close()
	db := database(t, h.settings.Database)
	_, err = idle.Users.Caller(ctx, token, netip.MustParseAddr("127.0.0.1"), access.See) // when a token was last used is kept to the minute, also where one looks
	require.NoError(t, err)
	parameter := regexp.MustCompile(`\{[a-z]+\}`)
	asked := 0
	for path, operations := range api.Document()["paths"].(map[string]any) {
		for method, operation := range operations.(map[string]any) {
			if operation.(map[string]any)["x-effect"] != "looks" && !slices.Contains(dry, path) || method != "get" && method != "post" || method == "get" && slices.Contains(dry, path) {
				continue
			}
			name := map[bool]string{true: "saltmarsh-ferries.example", false: "heron-main"}[!strings.HasPrefix(path, "/accounts") && !strings.HasPrefix(path, "/channels")]
			if strings.HasPrefix(path, "/hosts") {
				name = "cam.saltmarsh-ferries.example"
			}
			url := server.URL + api.Base + parameter.ReplaceAllStringFunc(path, func(p string) string {
				if known := map[string]string{"{id}": "1", "{owner}": "www", "{type}": "A"}[p]; known != "" {
					return known
				}
				return name
			})
			switch path {
			case "/zones/{name}/comparison":
				url += "?from=0&to=1"
			case "/zones/{name}/history":
				url += "?of=www.saltmarsh-ferries.example"
			case "/brief-checks":
				url += "?since=2030-01-01T00:00:00Z"
			case "/records":
				url += "?text=192.0.2.1"
			case "/accounts/{name}/registrations":
				url = strings.Replace(url, "heron-main", "gannet-main", 1)
			}
			body := bodies[path]
			if body == "" {
				body = "{}"
			}
			before := rows(t, db)
			limited, cancel := context.WithTimeout(context.Background(), 15*time.Second)
			if path == "/events" {
				cancel()
				limited, cancel = context.WithTimeout(context.Background(), 200*time.Millisecond)
			}
			req, err := http.NewRequestWithContext(limited, strings.ToUpper(method), url, strings.NewReader(body))
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+token)
			res, err := http.DefaultClient.Do(req)
			if path != "/events" {
				require.NoError(t, err, path)
				assert.Less(t, res.StatusCode, 500, "%s %s", method, path)
				assert.NotEqual(t, 422, res.StatusCode, "%s %s is asked for something that it can do", method, path)
			}
			if err == nil {
				res.Body.Close()
			}
			cancel()
			assert.Equal(t, before, rows(t, db), "%s %s", method, path)
			asked++
		}
	}
	assert.Greater(t, asked, 40)
}
