package api

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/store"
	"beacon/wire"
)

// object is what a route of the matrix is about.
type about string

const (
	nobody    about = "nobody"    // open to clients that have not signed in
	anyone    about = "anyone"    // any sign-in or token
	person    about = "person"    // users who signed in, no tokens
	somewhere about = "somewhere" // who may do it anywhere; what is returned is narrowed down
	all       about = "all"       // the whole installation
	ofZone    about = "zone"
	ofSet     about = "set"
	ofID      about = "id" // of a zone, by a number or by a name of its own: one that may not be seen is not there
)

// matrix is what each route needs: an action, and on what. Nothing else in these tests says what is allowed.
var matrix = map[string]struct {
	action access.Action
	about  about
	body   string
}{
	"POST /sessions":        {"", nobody, `{}`},
	"POST /first-user":      {"", nobody, `{}`},
	"GET /sessions/current": {"", nobody, ""},
	"GET /report":           {"", nobody, ""},
	"POST /report":          {"", nobody, ""},
	"PUT /report":           {"", nobody, ""},

	"GET /me":                            {"", anyone, ""},
	"GET /tokens":                        {"", anyone, ""},
	"POST /tokens":                       {"", person, `{}`},
	"POST /tokens/:name/renewals":        {access.Users, ofID, `{}`},
	"DELETE /tokens/:name":               {access.Users, ofID, ""},
	"DELETE /sessions/current":           {"", person, ""},
	"PUT /users/current/password":        {"", person, `{}`},
	"GET /users/current/sessions":        {"", person, ""},
	"DELETE /users/current/sessions/:id": {"", person, ""},

	"GET /users":              {access.Users, all, ""},
	"POST /users":             {access.Users, all, `{}`},
	"DELETE /users/:name":     {access.Users, all, ""},
	"PUT /users/:name/grants": {access.Users, all, `{}`},

	"GET /clock":         {access.See, somewhere, ""},
	"POST /clock/steps":  {access.Operate, all, `{}`},
	"GET /findings":      {access.See, somewhere, ""},
	"GET /logbook":       {access.See, somewhere, ""},
	"GET /events":        {access.See, somewhere, ""},
	"GET /today":         {access.See, somewhere, ""},
	"GET /domains":       {access.See, somewhere, ""},
	"GET /domain-counts": {access.See, somewhere, ""},
	"POST /brief-checks": {access.Check, somewhere, ""},
	"GET /brief-checks":  {access.See, somewhere, ""},
	"GET /kinds":         {access.See, somewhere, ""},
	"GET /house-kit":     {access.See, somewhere, ""},
	"GET /record-types":  {access.See, somewhere, ""},
	"GET /hold":          {access.See, somewhere, ""},
	"GET /acts":          {access.See, somewhere, ""},
	"GET /zones":         {access.See, somewhere, ""},
	"GET /placements":    {access.See, somewhere, ""},
	"GET /hosts":         {access.See, somewhere, ""},
	"GET /locations":     {access.See, somewhere, ""},
	"POST /locations":    {access.Edit, somewhere, `{"name":"shed"}`},
	"GET /tsig-keys":     {access.See, somewhere, ""},
	"GET /records":       {access.See, somewhere, ""},
	"GET /operations":    {access.See, somewhere, ""},
	"POST /operations":   {access.Edit, somewhere, `{"search":{"text":"192.0.2.1"},"to":"192.0.2.2","dry_run":true}`},

	"GET /channels":                      {access.See, all, ""},
	"POST /channels/:name/tests":         {access.Operate, all, ""},
	"POST /hold":                         {access.Operate, all, `{}`},
	"POST /hold/release":                 {access.Operate, all, `{}`},
	"GET /accounts":                      {access.See, all, ""},
	"GET /accounts/:name":                {access.See, all, ""},
	"POST /accounts":                     {access.Connect, all, `{}`},
	"PUT /accounts/:name/credential":     {access.Connect, all, `{}`},
	"DELETE /accounts/:name":             {access.Connect, all, ""},
	"POST /accounts/:name/verifications": {access.Connect, all, `{}`},
	"GET /accounts/:name/verifications":  {access.See, all, ""},
	"GET /verifications/:id":             {access.See, all, ""},
	"GET /accounts/:name/zones":          {access.See, all, ""},
	"GET /accounts/:name/registrations":  {access.See, all, ""},

	"GET /domains/:name":                       {access.See, ofZone, ""},
	"GET /domains/:name/report":                {access.See, ofZone, ""},
	"GET /domains/:name/answers":               {access.See, ofZone, ""},
	"POST /domains/:name/checks":               {access.Check, ofZone, ""},
	"POST /sweeps":                             {access.Sweep, ofZone, `{"domain":"ZONE"}`},
	"POST /domains/:name/delegation-preview":   {access.See, ofZone, `{}`},
	"POST /domains/:name/handover-forecast":    {access.See, ofZone, `{}`},
	"GET /domains/:name/holder":                {access.See, ofZone, ""},
	"GET /domains/:name/gathering":             {access.See, ofZone, ""},
	"GET /domains/:name/gatherings":            {access.See, ofZone, ""},
	"POST /domains/:name/gatherings":           {access.Edit, ofZone, `{}`},
	"POST /domains/:name/gathering/acceptance": {access.Edit, ofZone, `{}`},
	"GET /handovers":                           {access.See, somewhere, ""},
	"GET /domains/:name/handover":              {access.See, ofZone, ""},
	"POST /domains/:name/handovers":            {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/handover/words":       {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/handover/pause":       {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/handover/resumption":  {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/handover/return":      {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/handover/abandonment": {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/delegations":          {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/ds-preview":           {access.See, ofZone, `{}`},
	"POST /domains/:name/ds-changes":           {access.Delegate, ofZone, `{}`},
	"POST /domains/:name/lock-preview":         {access.See, ofZone, `{}`},
	"POST /domains/:name/lock-changes":         {access.Delegate, ofZone, `{}`},
	"POST /zones/:name/deletion-preview":       {access.See, ofZone, `{}`},
	"POST /zones/:name/deletion":               {access.Place, ofZone, `{}`},
	"POST /zones/:name/retirement-preview":     {access.See, ofZone, `{}`},
	"POST /zones/:name/retirements":            {access.Place, ofZone, `{}`},
	"POST /generated-definitions":              {access.Place, ofZone, `{"zone":"ZONE","new":true}`},
	"POST /definitions":                        {access.Place, ofZone, `{"files":[{"name":"f","text":"zones:\n  ZONE:\n    records: |\n      @ A 192.0.2.1\n"}],"dry_run":true}`},
	"GET /zones/:name/definition":              {access.See, ofZone, ""},
	"POST /zones/:name/detachment":             {access.Place, ofZone, ""},
	"GET /zones/:name":                         {access.See, ofZone, ""},
	"GET /zones/:name/records":                 {access.See, ofZone, ""},
	"GET /zones/:name/findings":                {access.See, ofZone, ""},
	"POST /zones/:name/imports":                {access.Edit, ofZone, `{"file":"f","text":"@ 60 A 192.0.2.1\n","partial":true}`},
	"GET /zones/:name/differences":             {access.See, ofZone, ""},
	"POST /zones/:name/syncs":                  {access.Sync, ofZone, `{}`},
	"POST /zones/:name/adoptions":              {access.Sync, ofZone, `{}`},
	"GET /zones/:name/settings":                {access.See, ofZone, ""},
	"PUT /zones/:name/settings":                {access.Place, ofZone, `{}`},
	"GET /zones/:name/syncs":                   {access.See, ofZone, ""},
	"GET /zones/:name/draft":                   {access.See, ofZone, ""},
	"POST /zones/:name/draft/edits":            {access.Edit, ofZone, `{"records":[{"after":{"name":"new.ZONE","type":"A","ttl":60,"data":"192.0.2.9"}}]}`},
	"DELETE /zones/:name/draft":                {access.Edit, ofZone, ""},
	"POST /zones/:name/draft/acceptance":       {access.Edit, ofZone, `{}`},
	"POST /zones/:name/recognitions":           {access.See, ofZone, `{}`},
	"POST /zones/:name/data":                   {access.See, ofZone, `{}`},
	"GET /zones/:name/revisions":               {access.See, ofZone, ""},
	"GET /zones/:name/comparison":              {access.See, ofZone, ""},
	"GET /zones/:name/history":                 {access.See, ofZone, ""},
	"POST /zones/:name/restorations":           {access.Edit, ofZone, `{"revision":1}`},

	"GET /zones/:name/sets/:owner/:type":    {access.See, ofSet, ""},
	"PUT /zones/:name/sets/:owner/:type":    {access.Edit, ofSet, `{"ttl":60,"data":["192.0.2.7"],"dry_run":true}`},
	"DELETE /zones/:name/sets/:owner/:type": {access.Edit, ofSet, `{"dry_run":true}`},

	"GET /hosts/:name":    {access.See, ofID, ""},
	"POST /hosts":         {access.Edit, ofSet, `{"name":"more.ZONE","v4":true}`},
	"POST /tsig-keys":     {access.Edit, ofID, `{"for":"cam.ZONE"}`},
	"DELETE /hosts/:name": {access.Edit, ofID, ""},
	"PUT /hosts/:name":    {access.Edit, ofID, `{"v4":true}`},
	"GET /syncs/:id":      {access.See, ofID, ""},

	"GET /locations/:location":                    {access.See, ofID, ""},
	"PUT /locations/:location":                    {access.Edit, ofID, `{"description":"by the pier"}`},
	"DELETE /locations/:location":                 {access.Edit, ofID, ""},
	"POST /locations/:location/uplinks":           {access.Edit, ofID, `{"name":"lte"}`},
	"PUT /locations/:location/uplinks/:uplink":    {access.Edit, ofID, `{"parameters":{"v4":"ip"}}`},
	"DELETE /locations/:location/uplinks/:uplink": {access.Edit, ofID, ""},
	"DELETE /tsig-keys/:key":                      {access.Edit, ofID, ""},
	"GET /syncs/:id/requests":                     {access.See, ofID, ""},
	"POST /syncs/:id/cancellation":                {access.Sync, ofID, `{}`},
	"GET /acts/:id":                               {access.See, ofID, ""},
	"POST /acts/:id/cancellation":                 {access.Delegate, ofID, `{}`},
	"POST /operations/:id/undo":                   {access.Edit, ofID, ""},
	"POST /operations/:id/syncs":                  {access.Sync, ofID, ""},
}

// may is what roles may do, written out: the product's own table is what is tested.
var may = map[string]string{
	"owner":    "see check sweep report edit sync delegate place operate connect users",
	"operator": "see check sweep report edit sync delegate place operate",
	"editor":   "see check edit sync",
	"viewer":   "see check",
	"sweep":    "sweep",
	"nothing":  "",
}

// who is a caller of the matrix: what it may do, in its own zone only or everywhere.
type who struct {
	may   string
	own   bool // in the zone own.example only
	token bool
}

func (w who) String() string { return fmt.Sprintf("%s own=%v token=%v", w.may, w.own, w.token) }

func (w who) grant() string {
	if w.own {
		return w.may + " zones=own.example"
	}
	return w.may
}

// allowed is whether a caller may use a route on the own zone, or another one.
func (w who) allowed(action access.Action, about about, other bool) bool {
	has := slices.Contains(strings.Fields(may[w.may]), string(action))
	switch about {
	case nobody, anyone:
		return true
	case person:
		return !w.token
	case somewhere:
		return has
	case all:
		return has && !w.own
	}
	return has && !(w.own && other)
}

// world is a site with an own and another zone, and everything that belongs to them.
type world struct {
	*site
	db  *sql.DB
	ids map[bool]map[string]string // of the other zone, or the own one, by the beginning of a path
}

func newWorld(t *testing.T) world {
	w := world{site: newSite(t), ids: map[bool]map[string]string{false: {}, true: {}}}
	var err error
	w.db, err = sql.Open("mysql", w.settings.Database.User+":"+w.settings.Database.Password+"@unix("+w.settings.Database.Socket+")/"+w.settings.Database.Database)
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.db.Close() })
	db, err := store.Open(context.Background(), w.settings.Database, reach.Loopback(), clock.Wall{}.Now)
	require.NoError(t, err)
	defer db.Close()
	account := store.Account{Name: "heron-main", Role: wire.RoleProvider, Kind: "heron", Address: "http://127.0.0.1:1", Sealed: []byte("none")}
	require.NoError(t, db.Tx(context.Background(), func(tx *store.Tx) error { return tx.AddAccount(&account) }))
	for _, other := range []bool{false, true} {
		zone := zoneOf(other)
		status, _, body := w.ask("POST", Base+"/zones/"+zone+"/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n"}`)
		require.Equal(t, http.StatusOK, status, body)
		status, _, body = w.ask("POST", Base+"/operations", fmt.Sprintf(`{"search":{"zone":%q,"name":"www.%[1]s"},"ttl":70}`, zone))
		require.Equal(t, http.StatusOK, status, body)
		w.ids[other]["/operations"] = fmt.Sprint(body["operation"].(map[string]any)["id"])
		status, _, body = w.ask("POST", Base+"/hosts", fmt.Sprintf(`{"name":"cam.%s","v4":true}`, zone))
		require.Equal(t, http.StatusCreated, status, body)
		status, _, body = w.ask("POST", Base+"/locations", fmt.Sprintf(`{"name":%q}`, locationOf(other)))
		require.Equal(t, http.StatusCreated, status, body)
		status, _, body = w.ask("POST", Base+"/hosts", fmt.Sprintf(`{"name":"dock.%s","v4":true,"location":%q}`, zone, locationOf(other)))
		require.Equal(t, http.StatusCreated, status, body)
		status, _, body = w.ask("POST", Base+"/tsig-keys", fmt.Sprintf(`{"for":"%s/main","name":"key.%s"}`, locationOf(other), zone))
		require.Equal(t, http.StatusCreated, status, body)
		require.NoError(t, db.Tx(context.Background(), func(tx *store.Tx) error {
			z, err := tx.Zone(dnsname.MustParse(zone))
			require.NoError(t, err)
			p, err := tx.Place(z.ID, account.ID)
			require.NoError(t, err)
			sync := store.Sync{PlacementID: p.ID, RevisionID: *z.RevisionID, RequestedBy: "admin"}
			require.NoError(t, tx.AddSync(&sync, nil))
			act := store.Act{Kind: wire.ActDelegate, Subject: zone + ".", RequestedBy: "admin", State: store.ActPending, Asked: "{}"}
			require.NoError(t, tx.AddAct(&act))
			w.ids[other]["/syncs"], w.ids[other]["/acts"] = fmt.Sprint(sync.ID), fmt.Sprint(act.ID)
			return nil
		}))
	}
	return w
}

func zoneOf(other bool) string {
	return map[bool]string{false: "own.example", true: "other.example"}[other]
}

func locationOf(other bool) string {
	return map[bool]string{false: "quay", true: "lightship"}[other]
}

// as returns a token of a caller.
func (w world) as(who who) string {
	if who.token || who.may == "sweep" {
		grants, err := access.ParseGrant(who.grant())
		require.NoError(w.t, err)
		body, err := json.Marshal(wire.NewToken{Name: "machine", Grants: []access.Grant{grants}})
		require.NoError(w.t, err)
		status, _, out := w.ask("POST", Base+"/tokens", string(body))
		require.Equal(w.t, http.StatusCreated, status, out)
		return out["token"].(string)
	}
	grants, err := access.ParseGrant(who.grant())
	require.NoError(w.t, err)
	body, err := json.Marshal(wire.NewUser{Name: "petra", Grants: []access.Grant{grants}})
	require.NoError(w.t, err)
	status, _, out := w.ask("POST", Base+"/users", string(body))
	require.Equal(w.t, http.StatusCreated, status, out)
	status, _, out = w.ask("POST", Base+"/sessions", fmt.Sprintf(`{"name":"petra","password":%q}`, out["password"]))
	require.Equal(w.t, http.StatusCreated, status, out)
	return out["token"].(string)
}

// use sends a request of a route about a zone with a token.
func (w world) use(r route, token string, other bool) (int, string) {
	w.t.Helper()
	zone := zoneOf(other)
	name := zone
	switch root := "/" + strings.SplitN(r.path, "/", 3)[1]; root {
	case "/accounts":
		name = "heron-main"
	case "/channels", "/users":
		name = "nobody"
	case "/hosts":
		name = "cam." + zone
	case "/tokens":
		name = "cam." + zone
	}
	id := w.ids[other]["/"+strings.SplitN(r.path, "/", 3)[1]]
	if id == "" {
		id = "999"
	}
	path := Base + strings.NewReplacer(":name", name, ":id", id, ":location", locationOf(other), ":uplink", "main", ":key", "key."+zone, ":owner", "www", ":type", "A").Replace(r.path)
	switch r.path {
	case "/records":
		path += "?text=192.0.2.1"
	case "/zones/:name/history":
		path += "?of=www." + zone
	case "/zones/:name/comparison":
		path += "?from=0&to=1"
	case "/brief-checks":
		if r.method == "GET" {
			path += "?since=2020-01-01T00:00:00Z"
		}
	case "/events":
		path += "?after=0"
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if r.path == "/events" {
		cancel()
		ctx, cancel = context.WithTimeout(context.Background(), 300*time.Millisecond)
		defer cancel()
	}
	req := httptest.NewRequestWithContext(ctx, r.method, path, strings.NewReader(strings.ReplaceAll(matrix[r.method+" "+r.path].body, "ZONE", zone)))
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	rec := httptest.NewRecorder()
	w.handler.ServeHTTP(rec, req)
	return rec.Code, rec.Body.String()
}

// jobs are the kinds of background work that there is, with how much.
func (w world) jobs() map[string]int {
	rows, err := w.db.Query("SELECT kind, COUNT(*) FROM jobs GROUP BY kind")
	require.NoError(w.t, err)
	defer rows.Close()
	list := map[string]int{}
	for rows.Next() {
		var kind string
		var n int
		require.NoError(w.t, rows.Scan(&kind, &n))
		list[kind] = n
	}
	require.NoError(w.t, rows.Err())
	return list
}

// jobKinds are the kinds of background work, and which action has them done: any of several, or "service" where the service does so by itself only.
var jobKinds = map[string]string{
	"sync": "sync place edit", "urgent": "edit delegate", "see": "edit report", "act": "delegate place", "check": "check place edit", "brief": "check", "look": "connect place sync", "look-once": "see sync",
	"alias": "edit place", "hosts": "edit report", "rows": "edit place", "follow": "edit", "verify": "connect", "gather": "edit", "handover": "delegate check", "tell": "operate",
	"notify": "service", "sequence": "service", "watch": "service", "probe": "service", "sweep": "service", "prune": "service", "sample": "service", "vanished": "service",
}

// Every kind of work is in the table.
func TestEveryKindOfWorkIsInTheTable(t *testing.T) {
	files, err := filepath.Glob(filepath.Join("..", "store", "*.go"))
	require.NoError(t, err)
	kind := regexp.MustCompile(`(?m)^(?:const )?\s*Job[A-Z][A-Za-z]*\s*=\s*"([a-z-]+)"`)
	known := map[string]bool{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range kind.FindAllStringSubmatch(string(text), -1) {
			known[m[1]] = true
			assert.Contains(t, jobKinds, m[1], "a kind of work without a row")
		}
	}
	assert.Len(t, known, len(jobKinds))
}

// counts are how many rows there are of what requests make.
func (w world) counts() (list []string) {
	_, _, today := w.ask("GET", Base+"/logbook?limit=200", "")
	for _, e := range today["items"].([]any) {
		line := e.(map[string]any)
		if action := line["action"].(string); action != "access.refused" && action != "token.unknown" {
			list = append(list, fmt.Sprint(action, " ", line["subject"]))
		}
	}
	return list
}

// Every route, by every role, everywhere and in one zone only, as a user and as a token, on the own zone, on another one, and on none. A route without a
// row fails. Nothing that is refused leaves a trace but the line that says so; nothing of the other zone is returned to who may not see it.
func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	list := routes()
	slices.SortStableFunc(list, func(a, b route) int { // what takes things away comes last
		last := func(r route) int {
			switch {
			case r.path == "/sessions/current" && r.method == "DELETE":
				return 3
			case r.method == "DELETE" || strings.HasSuffix(r.path, "/deletion") || strings.HasSuffix(r.path, "cancellation"):
				return 2
			case r.method == "GET":
				return 0
			}
			return 1
		}
		return last(a) - last(b)
	})
	known := map[string]bool{}
	for _, r := range list {
		known[r.method+" "+r.path] = true
		require.Contains(t, matrix, r.method+" "+r.path, "a route without a row in the matrix")
	}
	for row := range matrix {
		require.True(t, known[row], "%s is no route", row)
	}
	callers := []who{{"sweep", false, true}, {"owner", false, true}, {"editor", true, true}}
	for _, role := range access.Roles() {
		callers = append(callers, who{string(role), false, false}, who{string(role), true, false})
	}
	if testing.Short() {
		callers = callers[:4]
	}
	var asked atomic.Int64
	t.Run("callers", func(t *testing.T) { // each on a world of its own
		for _, caller := range callers {
			t.Run(caller.String(), func(t *testing.T) {
				t.Parallel()
				w := newWorld(t)
				token := w.as(caller)
				before, work := w.counts(), w.jobs()
				for _, granted := range []bool{false, true} {
					for _, r := range list {
						row := matrix[r.method+" "+r.path]
						for _, other := range []bool{false, true} {
							switch row.about {
							case ofZone, ofSet, ofID:
							default:
								if other {
									continue
								}
							}
							should := caller.allowed(row.action, row.about, other)
							if r.path == "/tokens" && r.method == "POST" { // a token makes tokens only where it may manage users
								should = should || caller.allowed(access.Users, all, false)
							}
							if r.path == "/tokens/:name/renewals" || r.path == "/tokens/:name" { // of a host: who may edit its name
								should = caller.allowed(access.Edit, ofZone, other)
							}
							if should != granted {
								continue
							}
							asked.Add(1)
							what := fmt.Sprintf("%s %s other=%v", r.method, r.path, other)
							status, body := w.use(r, token, other)
							refused := status == http.StatusForbidden || status == http.StatusUnauthorized || row.about == ofID && status == http.StatusNotFound
							if row.about == nobody {
								continue
							}
							assert.Equal(t, !should, refused, "%s: %d %s", what, status, body)
							assert.Less(t, status, 500, "%s: %s", what, body)
							if caller.own && !other {
								assert.NotContains(t, body, "other.example", what)
							}
							if !should && status == http.StatusForbidden {
								assert.Contains(t, body, "Nothing changed", what)
							}
						}
					}
					if !granted {
						assert.Equal(t, before, w.counts(), "what was refused left a line")
						assert.Equal(t, work, w.jobs(), "what was refused left work")
					}
				}
				for kind, n := range w.jobs() {
					if n == work[kind] {
						continue
					}
					has := func(action string) bool { return slices.Contains(strings.Fields(may[caller.may]), action) }
					assert.True(t, slices.ContainsFunc(strings.Fields(jobKinds[kind]), has), "%s has work of the kind %s done", caller, kind)
				}
			})
		}
	})
	t.Logf("%d requests", asked.Load())
	w := newWorld(t)
	for _, r := range list {
		if row := matrix[r.method+" "+r.path]; row.about != nobody {
			status, body := w.use(r, "", false)
			assert.Equal(t, http.StatusUnauthorized, status, "%s %s without a token: %s", r.method, r.path, body)
		}
	}
}

// A refusal is a line of the logbook with the network address, once a minute.
func TestRefusalsAreLogged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	token := w.as(who{"viewer", true, false})
	for range 3 {
		status, _ := w.use(route{method: "POST", path: "/zones/:name/syncs"}, token, false)
		require.Equal(t, http.StatusForbidden, status)
	}
	_, _, out := w.ask("GET", Base+"/logbook?limit=200", "")
	text, err := json.Marshal(out)
	require.NoError(t, err)
	assert.Equal(t, 1, bytes.Count(text, []byte(`"access.refused"`)))
	assert.Contains(t, string(text), "192.0.2.1: POST /zones/:name/syncs", "the address of httptest")
}
