package profile_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
)

// shape is an interface of our own invention that needs what the language can do.
type shape struct {
	name   string
	secret string
	wrong  string
	quiet  string // a part of the wrong credential that must not show
	serve  func(t *testing.T, b *bank) http.Handler
}

func parts(list ...string) string {
	m := map[string]string{}
	for i := 0; i < len(list); i += 2 {
		m[list[i]] = list[i+1]
	}
	text, _ := json.Marshal(m)
	return string(text)
}

func example(t testing.TB, name string) *profile.Profile {
	t.Helper()
	text, err := os.ReadFile("testdata/examples/" + name + ".profile.yaml")
	require.NoError(t, err)
	p, faults := profile.Load(name+".profile.yaml", text)
	require.Empty(t, faults)
	assert.Empty(t, p.Questions)
	return p
}

// hosted returns a client whose account names its own address as the one where tokens are issued.
func hosted(c outcall.Client) outcall.Client {
	c.Hosts = map[string]string{"login": c.Base + "/"}
	return c
}

var godwitKey = func() *ecdsa.PrivateKey {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	return k
}()

func pemOf(k *ecdsa.PrivateKey) string {
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		panic(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

var strangeKey, _ = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)

var shapes = []shape{
	{"sanderling", parts("user", "harbour-desk", "password", "sanderling-test-word"), parts("user", "harbour-desk", "password", "sanderling-wrong-word"), "sanderling-wrong-word", sanderling},
	{"turnstone", parts("client_id", "harbour-desk", "client_secret", "turnstone-test-word"), parts("client_id", "harbour-desk", "client_secret", "turnstone-wrong-word"), "turnstone-wrong-word", turnstone},
	{"redshank", parts("key_id", "harbour-desk", "secret", "redshank-test-word"), parts("key_id", "harbour-desk", "secret", "redshank-wrong-word"), "redshank-wrong-word", redshank},
	{"godwit", parts("account", "4711-0815", "private_key", pemOf(godwitKey)), parts("account", "4711-0815", "private_key", pemOf(strangeKey)), "MIGHAgEAMBMGByqG", godwit},
}

// Interfaces that sign in each in a way of their own pass all checks, by a profile alone.
func TestShapesConform(t *testing.T) {
	pool := jqtest.Pool(t)
	for _, s := range shapes {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(s.serve(t, newBank()))
			t.Cleanup(server.Close)
			p, runtime := example(t, s.name), profile.NewRuntime(pool)
			t.Cleanup(runtime.Close)
			conformtest.Passes(t, conform.Subject{Driver: profile.New(p, runtime, hosted(client(server.URL, s.secret))), WrongKey: profile.New(p, runtime, hosted(client(server.URL, s.wrong))),
				Secret: s.quiet, Zone: dnsname.MustParse("scratch.example")}, 35)
			_, err := profile.New(p, runtime, hosted(client(server.URL, "no parts"))).Zones(context.Background(), "")
			assert.Equal(t, outcall.Unauthorised, outcall.KindOf(err), "%v", err)
			assert.Equal(t, outcall.NotSent, outcall.OutcomeOf(err))
		})
	}
}

// A profile that takes few types is tested with these only.
func TestFewTypesConform(t *testing.T) {
	text, err := os.ReadFile("testdata/examples/redshank.profile.yaml")
	require.NoError(t, err)
	p, faults := profile.Load("redshank", []byte(strings.Replace(string(text), "targets: absolute,", "targets: absolute, types: [A],", 1)))
	require.Empty(t, faults)
	server := httptest.NewServer(redshank(t, newBank()))
	t.Cleanup(server.Close)
	conformtest.Passes(t, conform.Subject{Driver: profile.New(p, profile.NewRuntime(jqtest.Pool(t)), client(server.URL, shapes[2].secret)), Zone: dnsname.MustParse("scratch.example")}, 18)
}

// sanderling keeps versions of zones; who signs in gets a cookie.
func sanderling(t *testing.T, b *bank) http.Handler {
	sessions := map[string]bool{}
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		say := func(status int, v any) { sayJSON(rw, status, v) }
		refuse := func(status int, text string) { say(status, map[string]string{"problem": text}) }
		cookie, _ := r.Cookie("sid")
		if r.URL.Path == "/session" && r.Method == "POST" {
			var in struct {
				Login struct{ User, Password string }
			}
			_ = json.NewDecoder(r.Body).Decode(&in)
			if in.Login.User != "harbour-desk" || in.Login.Password != "sanderling-test-word" {
				refuse(401, "not "+in.Login.Password)
				return
			}
			b.last++
			id := fmt.Sprintf("session-%d", b.last)
			sessions[id] = true
			http.SetCookie(rw, &http.Cookie{Name: "sid", Value: id, MaxAge: 600})
			say(200, map[string]string{})
			return
		}
		if cookie == nil || !sessions[cookie.Value] {
			refuse(401, "sign in first")
			return
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
		switch {
		case path[0] == "session":
			delete(sessions, cookie.Value)
			say(200, nil)
			return
		case len(path) == 1 && r.Method == "GET":
			all := b.sorted()
			from, _ := strconv.Atoi(r.URL.Query().Get("offset"))
			from = min(from, len(all))
			say(200, map[string]any{"total": len(all), "items": append([]*bankZone{}, all[from:min(from+3, len(all))]...)})
			return
		case len(path) == 1:
			var in struct{ Zone string }
			_ = json.NewDecoder(r.Body).Decode(&in)
			z, ok := b.add(in.Zone)
			if !ok {
				refuse(409, "it is there already")
				return
			}
			say(201, z)
			return
		}
		z := b.numbered(path[1])
		if z == nil {
			refuse(404, "no such zone")
			return
		}
		if len(path) == 2 {
			if len(z.Sets) > 0 {
				refuse(409, "the zone is not empty")
				return
			}
			delete(b.zones, z.Zone)
			say(200, nil)
			return
		}
		sanderlingVersions(z, path[3:], r, say, refuse)
	})
}

func sanderlingVersions(z *bankZone, path []string, r *http.Request, say func(int, any), refuse func(int, string)) {
	if len(path) == 0 {
		z.Version++
		z.drafts[z.Version] = copied(z.Sets)
		say(201, map[string]any{"version": z.Version})
		return
	}
	if path[0] == "live" {
		say(200, map[string]any{"version": z.adds, "sets": sortedSets(z.Sets)})
		return
	}
	no, _ := strconv.Atoi(path[0])
	draft := z.drafts[no]
	if draft == nil {
		refuse(404, "no such version")
		return
	}
	if len(path) == 1 {
		delete(z.drafts, no)
		say(200, nil)
		return
	}
	switch path[1] {
	case "sets":
		clear(draft)
	case "edits":
		var in bankSet
		_ = json.NewDecoder(r.Body).Decode(&in)
		if err := put(draft, in, true); err != nil {
			refuse(422, err.Error())
			return
		}
	case "check":
		if err := alone(draft); err != nil {
			refuse(422, err.Error())
			return
		}
	case "activation":
		z.Sets = copied(draft)
		z.adds++
	}
	say(200, map[string]any{"ok": true})
}

// turnstone gives tokens that last for a moment, and keeps each type under a path of its own.
func turnstone(t *testing.T, b *bank) http.Handler {
	tokens := map[string]time.Time{}
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		say := func(status int, v any) { sayJSON(rw, status, v) }
		refuse := func(status int, text string) { say(status, map[string]string{"error": text}) }
		if r.URL.Path == "/oauth/token" {
			id, secret, _ := r.BasicAuth()
			if id != "harbour-desk" || secret != "turnstone-test-word" || r.PostFormValue("grant_type") != "client_credentials" || r.PostFormValue("scope") != "dns" {
				refuse(401, "unknown client, "+secret)
				return
			}
			b.last++
			token := fmt.Sprintf("turnstone-token-%d", b.last)
			tokens[token] = time.Now().Add(time.Second)
			say(200, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": 1})
			return
		}
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !time.Now().Before(tokens[token]) {
			refuse(401, "this token is over")
			return
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")[1:]
		if len(path) == 1 {
			if r.Method == "GET" {
				say(200, b.sorted())
				return
			}
			var in struct{ Name string }
			_ = json.NewDecoder(r.Body).Decode(&in)
			if z, ok := b.add(in.Name); ok {
				say(201, z)
			} else {
				refuse(409, "it is there")
			}
			return
		}
		z := b.zones[path[1]]
		switch {
		case z == nil:
			refuse(404, "no such zone")
		case len(path) == 2:
			delete(b.zones, path[1])
			say(200, nil)
		case len(path) == 3:
			var of []bankSet
			for _, s := range sortedSets(z.Sets) {
				if strings.EqualFold(s.Type, path[2]) {
					of = append(of, s)
				}
			}
			from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
			end := min(from+10, len(of))
			body := map[string]any{"sets": append([]bankSet{}, of[from:end]...)}
			if end < len(of) {
				body["next"] = end
			}
			say(200, body)
		default:
			in := bankSet{Host: path[3], Type: strings.ToUpper(path[2])}
			if r.Method == "PUT" {
				_ = json.NewDecoder(r.Body).Decode(&in)
			}
			sets := copied(z.Sets)
			err := put(sets, in, false)
			if err == nil {
				err = alone(sets)
			}
			if err != nil {
				refuse(422, err.Error())
				return
			}
			z.Sets = sets
			say(200, nil)
		}
	})
}

// redshank speaks XML and wants each request signed.
func redshank(t *testing.T, b *bank) http.Handler {
	mac := func(key []byte, text string) []byte {
		m := hmac.New(sha256.New, key)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		say := func(text string) {
			rw.Header().Set("Content-Type", "application/xml; charset=utf-8")
			_, _ = io.WriteString(rw, `<?xml version="1.0"?>`+"\n"+text)
		}
		refuse := func(code, text string) { say(fmt.Sprintf(`<fault code="%s">%s</fault>`, code, xmlText(text))) }
		body, _ := io.ReadAll(r.Body)
		sum := sha256.Sum256(body)
		date := r.Header.Get("X-Redshank-Date")
		at, err := time.Parse("20060102T150405Z", date)
		if err != nil || time.Since(at).Abs() > time.Minute {
			refuse("bad-signature", "no date")
			return
		}
		key := mac(mac(mac([]byte("RS1redshank-test-word"), date[:8]), "dns"), "redshank_request")
		over := strings.Join([]string{"RS1-HMAC-SHA256", date, r.Method, r.URL.EscapedPath(), strings.ReplaceAll(r.URL.Query().Encode(), "+", "%20"), "host:" + r.Host, "x-redshank-date:" + date, hex.EncodeToString(sum[:])}, "\n")
		if r.Header.Get("Authorization") != "RS1-HMAC-SHA256 id=harbour-desk,signature="+hex.EncodeToString(mac(key, over)) {
			refuse("bad-signature", "it is not signed by "+r.Header.Get("Authorization"))
			return
		}
		zone := func(z *bankZone) string {
			return fmt.Sprintf(`<zone id="%d"><name>%s</name><server>%s</server><server>%s</server></zone>`, z.No, z.Name, z.Servers[0], z.Servers[1])
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")[1:]
		if len(path) == 1 {
			if r.Method == "GET" {
				all := b.sorted()
				from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
				end := min(from+1, len(all))
				out := "<zones>"
				if end < len(all) {
					out = fmt.Sprintf(`<zones next="%d">`, end)
				}
				for _, z := range all[from:end] {
					out += zone(z)
				}
				say(out + "</zones>")
				return
			}
			var in struct {
				Name string `xml:"name"`
			}
			_ = xml.Unmarshal(body, &in)
			if z, ok := b.add(in.Name); ok {
				say(zone(z))
			} else {
				refuse("zone-exists", "it is there")
			}
			return
		}
		z := b.numbered(path[1])
		switch {
		case z == nil:
			refuse("no-zone", "there is no such zone")
		case len(path) == 2:
			delete(b.zones, z.Zone)
			say("<done/>")
		case r.Method == "GET":
			out := "<sets>"
			for _, s := range sortedSets(z.Sets) {
				out += fmt.Sprintf(`<set name="%s" type="%s" ttl="%d">`, xmlText(s.Host), s.Type, s.TTL)
				for _, d := range s.Data {
					out += "<data>" + xmlText(d) + "</data>"
				}
				out += "</set>"
			}
			say(out + "</sets>")
		default:
			redshankChanges(z, body, say, refuse)
		}
	})
}

func redshankChanges(z *bankZone, body []byte, say func(string), refuse func(string, string)) {
	type set struct {
		XMLName xml.Name
		Name    string   `xml:"name,attr"`
		Type    string   `xml:"type,attr"`
		TTL     int      `xml:"ttl,attr"`
		Data    []string `xml:"data"`
	}
	var in struct {
		Sets []set `xml:",any"`
	}
	if err := xml.Unmarshal(body, &in); err != nil {
		refuse("bad-xml", err.Error())
		return
	}
	sets := copied(z.Sets)
	for _, s := range in.Sets {
		if s.XMLName.Local == "drop" {
			s.Data = nil
		}
		if err := put(sets, bankSet{Host: s.Name, Type: s.Type, TTL: s.TTL, Data: s.Data}, false); err != nil {
			refuse("bad-record", err.Error())
			return
		}
	}
	if err := alone(sets); err != nil {
		refuse("bad-record", err.Error())
		return
	}
	z.Sets = sets
	say("<done/>")
}

func xmlText(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}

// godwit takes forms at one address, and tokens for assertions that the account's key signed.
func godwit(t *testing.T, b *bank) http.Handler {
	left := map[string]int{}
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		say := func(v any) { // says neither its type nor its status
			rw.Header().Set("Content-Type", "text/html")
			_ = json.NewEncoder(rw).Encode(v)
		}
		refuse := func(code int, text string) { say(map[string]any{"result": "error", "code": code, "message": text}) }
		_ = r.ParseForm()
		if r.URL.Path == "/token" {
			if err := assertedBy(r.PostForm, "http://"+r.Host+"/token"); err != nil {
				sayJSON(rw, 401, map[string]string{"error": "invalid_grant", "error_description": err.Error()})
				return
			}
			b.last++
			token := fmt.Sprintf("godwit-token-%d", b.last)
			left[token] = 60
			sayJSON(rw, 200, map[string]any{"access_token": token, "expires_in": 3600})
			return
		}
		token := r.PostForm.Get("token")
		if left[token] == 0 {
			refuse(401, "this token is not known: "+token)
			return
		}
		left[token]--
		z := b.zones[r.PostForm.Get("zone")]
		from, _ := strconv.Atoi(r.PostForm.Get("from"))
		switch cmd := r.PostForm.Get("cmd"); {
		case cmd == "zones":
			all := b.sorted()
			say(map[string]any{"zones": append([]*bankZone{}, all[min(from, len(all)):min(from+30, len(all))]...)})
		case cmd == "add-zone":
			if z, ok := b.add(r.PostForm.Get("zone")); ok {
				say(z)
			} else {
				refuse(409, "it is there")
			}
		case z == nil:
			refuse(404, "no such zone")
		case cmd == "drop-zone":
			delete(b.zones, z.Zone)
			say(map[string]string{"result": "ok"})
		default:
			godwitRecords(b, z, cmd, from, r.PostForm, say, refuse)
		}
	})
}

type godwitRecord struct {
	ID   int    `json:"id"`
	Host string `json:"host"`
	Type string `json:"type"`
	TTL  int    `json:"ttl"`
	Data string `json:"data"`
}

func godwitRecords(b *bank, z *bankZone, cmd string, from int, form url.Values, say func(any), refuse func(int, string)) {
	all := []godwitRecord{}
	for _, s := range sortedSets(z.Sets) {
		all = append(all, godwitRecord{s.ids[0], strings.SplitN(s.Host, "#", 2)[0], s.Type, s.TTL, s.Data[0]})
	}
	id, _ := strconv.Atoi(form.Get("id"))
	key := ""
	for k, s := range z.Sets {
		if len(s.ids) > 0 && s.ids[0] == id {
			key = k
		}
	}
	switch cmd {
	case "records":
		say(map[string]any{"records": all[min(from, len(all)):min(from+30, len(all))]})
		return
	case "del", "set":
		if key == "" {
			refuse(404, "no such record")
			return
		}
	}
	sets := copied(z.Sets)
	delete(sets, key)
	if cmd != "del" {
		ttl, _ := strconv.Atoi(form.Get("ttl"))
		if cmd == "add" {
			b.last++
			id = b.last
			z.adds++
		}
		s := bankSet{Host: form.Get("host") + "#" + strconv.Itoa(id), Type: form.Get("type"), TTL: ttl, Data: []string{form.Get("data")}, ids: []int{id}}
		if err := put(sets, s, true); err != nil {
			refuse(422, err.Error())
			return
		}
		for _, o := range sets {
			if o.ids[0] != id && strings.SplitN(o.Host, "#", 2)[0] == form.Get("host") && (o.Type == "CNAME" || s.Type == "CNAME") {
				refuse(422, "a CNAME is alone")
				return
			}
		}
	}
	z.Sets = sets
	say(map[string]any{"id": id})
}

// assertedBy checks the assertion of a form (RFC 7523 section 3).
func assertedBy(form url.Values, audience string) error {
	if form.Get("grant_type") != "urn:ietf:params:oauth:grant-type:jwt-bearer" {
		return fmt.Errorf("another grant")
	}
	part := strings.Split(form.Get("assertion"), ".")
	if len(part) != 3 {
		return fmt.Errorf("no assertion")
	}
	signature, _ := base64.RawURLEncoding.DecodeString(part[2])
	digest := sha256.Sum256([]byte(part[0] + "." + part[1]))
	if len(signature) != 64 || !ecdsa.Verify(&godwitKey.PublicKey, digest[:], new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:])) {
		return fmt.Errorf("the signature is not valid")
	}
	payload, _ := base64.RawURLEncoding.DecodeString(part[1])
	var claims struct {
		Iss, Aud string
		Exp, Iat int64
	}
	if err := json.Unmarshal(payload, &claims); err != nil || claims.Iss != "4711-0815" || claims.Aud != audience || claims.Exp <= time.Now().Unix() || claims.Exp > claims.Iat+600 {
		return fmt.Errorf("the claims are not right: %s", payload)
	}
	return nil
}
