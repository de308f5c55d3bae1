package demo

import (
	"beacon/core/access"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

//go:embed islands.beacon.yaml
var islandsFile []byte

// customers are the zones that a user put in by hand, at Curlew.
var customers = []string{"bakery-on-the-quay", "net-menders", "reed-boats", "fogbell-choir", "lobster-pots", "island-vet", "puffin-books", "stone-chapel"}

// Zones that show one thing each.
const (
	drifting  = "tide-gauges.example"      // a record was changed at the provider
	blocked   = "winter-timetable.example" // a guard blocks its sync
	saved     = "chandlery.example"        // the registrar has the new list, and it is not active
	lame      = "old-lighthouse.example"   // delegated to servers that do not have it
	settling  = "ferry-museum.example"     // moved a moment ago
	nobodys   = "regatta.example"          // not registered
	cameras   = "harbour-cams.example"     // its names follow addresses
	team      = "masts." + cameras         // delegated in the zone above, which is managed here too
	silent    = "wharf.example"            // has a nameserver that never answers
	cutOff    = "adrift.example"           // is served by it
	unknown   = "buoy." + cutOff           // so that nothing is known of this one
	misspelt  = "ropewalk.example"         // one nameserver of the parent's list has a typing error
	endsSoon  = "island-post.example"      // its registration ends soon
	byHand    = "beach-huts.example"       // its registrar has no account here: a person enters the nameservers
	scheduled = "sail-school.example"      // revised by several users
)

// fleetSteps are what a first start shows beside the domain to be moved: some forty domains in every state.
func (s *Stage) fleetSteps() []step {
	return []step{
		{"users", s.addUsers},
		{"tokens", s.addTokens},
		{"domain-to-be-moved", func(ctx context.Context) error { return s.apply(ctx, "saltmarsh-ferries.beacon.yaml", definitionFile) }},
		{"followed-folder", s.followFolder},
		{"customers", s.addCustomers},
		{"special-zones", s.addSpecialZones},
		{"registrations", s.registerAll},
		{"team-zone", s.addTeamZone},
		{"other-interfaces", s.addInterfaces},
		{"dynamic-hosts", s.addHosts},
		{"revisions", s.revise},
		{"first-checks", s.checkAll},
		{"moves", s.move},
		{"trouble", s.makeTrouble},
		{"last-checks", s.checkAll},
	}
}

// make makes something at the service in the name of a user. What is there already, of a load that was broken off, is no error.
func (s *Stage) make(ctx context.Context, user, path string, body, out any) error {
	if err := s.api(ctx, user, http.MethodPost, path, body, out); !there(err) {
		return err
	}
	return nil
}

// api makes a request to the service in the name of a user, and reads the answer into out.
func (s *Stage) api(ctx context.Context, user, method, path string, body, out any) error {
	token, err := s.token(ctx, user)
	if err != nil {
		return err
	}
	var text []byte
	if body != nil {
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	_, answer, err := s.send(ctx, method, s.Address()+"/api/v1"+path, text, "Authorization", "Bearer "+token)
	if err == nil && out != nil {
		err = json.Unmarshal(answer, out)
	}
	return err
}

// token signs a user in, once.
func (s *Stage) token(ctx context.Context, user string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tokens[user] != "" {
		return s.tokens[user], nil
	}
	password := s.Password
	if user != "admin" {
		text, err := os.ReadFile(s.path("password-" + user))
		if err != nil {
			return "", err
		}
		password = strings.TrimSpace(string(text))
	}
	token, err := s.signIn(ctx, user, password)
	if err == nil {
		s.tokens[user] = token
	}
	return token, err
}

// addUsers adds ines and petra. A password is shown once: a user whose password was lost by a start that was broken off is left, and
// another one takes the place.
func (s *Stage) addUsers(ctx context.Context) error {
	for _, name := range []string{"ines", "petra"} {
		if _, err := os.Stat(s.path("password-" + name)); err == nil {
			continue
		}
		for _, user := range []string{name, name + "-2", name + "-3"} {
			var made struct{ Name, Password string }
			if err := s.make(ctx, "admin", "/users", map[string]any{"name": user, "grants": access.Full(access.Operator)}, &made); err != nil {
				return err
			}
			if made.Password != "" {
				if err := s.keep("name-"+name, []byte(user)); err != nil {
					return err
				}
				if err := s.keep("password-"+name, []byte(made.Password+"\n")); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// addTokens makes the tokens of two machines: one that renews certificates, one that is a vantage point.
func (s *Stage) addTokens(ctx context.Context) error {
	for name, grant := range map[string]string{"certificates": "edit,sync zones=" + Domain + " names=_acme-challenge,_acme-challenge.* types=TXT", "tower": "sweep"} {
		g, err := access.ParseGrant(grant)
		if err != nil {
			return err
		}
		var made struct{ Token string }
		if err := s.make(ctx, "admin", "/tokens", map[string]any{"name": name, "grants": []access.Grant{g}}, &made); err != nil {
			return err
		}
		if made.Token == "" { // it was made before: its text was shown once
			continue
		}
		if err := s.keep("token-"+name, []byte(made.Token+"\n")); err != nil {
			return err
		}
	}
	return nil
}

func (s *Stage) apply(ctx context.Context, name string, text []byte) error {
	body := map[string]any{"files": []map[string]string{{"name": name, "text": string(text)}}, "sync": true, "manage": true, "reason": "first load"}
	return s.api(ctx, "admin", "POST", "/definitions", body, nil)
}

// followFolder puts the file of the islands into the folder that the service follows, and waits until their zones are served.
func (s *Stage) followFolder(ctx context.Context) error {
	at := filepath.Join("checkout", "islands.beacon.yaml")
	if err := s.keep(at, islandsFile); err != nil {
		return err
	}
	return s.served(ctx, "heron", misspelt)
}

// served waits until a provider has a zone.
func (s *Stage) served(ctx context.Context, provider, zone string) error {
	return s.eventually(ctx, zone+" at "+provider, func() (bool, error) {
		_, err := s.get(ctx, s.Site("control")+"/nameservers/"+provider+"/"+zone+".")
		if failed := (statusError{}); errors.As(err, &failed) && failed.status == http.StatusNotFound {
			return false, nil
		}
		return err == nil, err
	})
}

// eventually asks again and again until something is so, for a minute at most.
func (s *Stage) eventually(ctx context.Context, what string, is func() (bool, error)) error {
	for deadline := time.Now().Add(time.Minute); ; {
		if ok, err := is(); ok || err != nil {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s: not within a minute; the service's log is %s", what, s.path("service.log"))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (s *Stage) addCustomers(ctx context.Context) error {
	var b strings.Builder
	b.WriteString("zones:\n")
	for i, name := range customers {
		fmt.Fprintf(&b, "  %s.example:\n    providers: [curlew-ops]\n    registrar: gannet-main\n    delegate_to: curlew-ops\n    records: |\n", name)
		fmt.Fprintf(&b, "      @ 5m A 203.0.113.%d\n      www 1h CNAME @\n      @ 1h MX 10 mx1.post.example.\n      @ 1h TXT \"v=spf1 mx -all\"\n", 20+i)
	}
	body := map[string]any{"files": []map[string]string{{"name": "customers.beacon.yaml", "text": b.String()}}, "sync": true, "reason": "customers of the agency"}
	if err := s.api(ctx, "ines", "POST", "/definitions", body, nil); err != nil {
		return err
	}
	return s.served(ctx, "curlew", customers[len(customers)-1]+".example")
}

// addSpecialZones makes the zones that show one thing each.
func (s *Stage) addSpecialZones(ctx context.Context) error {
	var b strings.Builder
	b.WriteString("zones:\n")
	zone := func(name, more string, lines ...string) {
		registrar := "    registrar: gannet-main\n"
		if name == byHand {
			registrar = ""
		}
		fmt.Fprintf(&b, "  %s:\n    providers: [heron-main]\n%s    delegate_to: heron-main\n%s    records: |\n", name, registrar, more)
		for _, line := range append([]string{"@ 5m A 192.0.2.41", "www 5m A 192.0.2.41", `@ 1h TXT "v=spf1 -all"`}, lines...) {
			b.WriteString("      " + line + "\n")
		}
	}
	zone(drifting, "    drift: manual\n", "north 1h A 198.51.100.31", "south 1h A 198.51.100.32")
	var stops []string
	for i := range 30 {
		stops = append(stops, fmt.Sprintf("stop-%02d 1h A 198.51.100.%d", i+1, 100+i))
	}
	zone(blocked, "", stops...)
	for _, name := range []string{saved, lame, settling, nobodys, unknown, byHand} {
		zone(name, "")
	}
	zone(cameras, "", "harbour 1h TXT \"cameras of the harbour\"")
	zone(silent, "", fmt.Sprintf("ns 1h A 127.%d.99.98", s.Net), fmt.Sprintf("ns2 1h A 127.%d.99.99", s.Net))
	body := map[string]any{"files": []map[string]string{{"name": "special.beacon.yaml", "text": b.String()}}, "sync": true, "reason": "first load"}
	if err := s.api(ctx, "petra", "POST", "/definitions", body, nil); err != nil {
		return err
	}
	return s.served(ctx, "heron", silent)
}

// nameservers returns the nameservers that a provider gave a zone.
func (s *Stage) nameservers(ctx context.Context, provider, zone string) (list []string, err error) {
	text, err := s.get(ctx, s.Site("control")+"/nameservers/"+provider+"/"+zone+".")
	if err == nil {
		err = json.Unmarshal(text, &list)
	}
	return list, err
}

// islands are the zones of the followed file.
func islands() (names []string) {
	for line := range strings.Lines(string(islandsFile)) {
		if name, ok := strings.CutSuffix(strings.TrimSpace(line), ".example:"); ok {
			names = append(names, name+".example")
		}
	}
	return names
}

// registerAll registers the domains, most of them with the nameservers that their provider gave.
func (s *Stage) registerAll(ctx context.Context) error {
	register := func(name string, hosts []string, more map[string]any) error {
		body := map[string]any{"domain": name, "hosts": hosts}
		for k, v := range more {
			body[k] = v
		}
		return s.Control(ctx, "/domains", body)
	}
	for _, name := range append(islands(), drifting, blocked, cameras, silent) {
		hosts, err := s.nameservers(ctx, "heron", name)
		if err != nil {
			return err
		}
		var more map[string]any
		switch name {
		case misspelt:
			hosts[len(hosts)-1] = strings.Replace(hosts[len(hosts)-1], "quay", "quai", 1)
		case endsSoon:
			more = map[string]any{"days": 12}
		}
		if err := register(name, hosts, more); err != nil {
			return err
		}
	}
	for _, name := range customers {
		hosts, err := s.nameservers(ctx, "curlew", name+".example")
		if err == nil {
			err = register(name+".example", hosts, nil)
		}
		if err != nil {
			return err
		}
	}
	for _, name := range []string{settling, saved, byHand} { // still at the old provider
		if err := s.Host(ctx, name, []byte("@ 300 A 192.0.2.41\nwww 300 A 192.0.2.41\n@ 3600 TXT \"v=spf1 -all\"\n")); err != nil {
			return err
		}
	}
	if err := s.Control(ctx, "/delegation-ttl", map[string]any{"domain": settling, "ttl": 2 * 86400}); err != nil {
		return err
	}
	if err := register(lame, []string{"reed-11.plover.test.", "reed-12.plover.test."}, nil); err != nil {
		return err
	}
	return register(cutOff, []string{"ns." + silent + ".", "ns2." + silent + "."}, nil)
}

// addTeamZone makes a zone of a team, and delegates it in the zone above.
func (s *Stage) addTeamZone(ctx context.Context) error {
	text := "zones:\n  " + team + ":\n    description: Masts of the harbour cameras\n    providers: [curlew-ops]\n    records: |\n      @ 1h A 192.0.2.60\n      east 1h A 192.0.2.61\n      west 1h A 192.0.2.62\n"
	body := map[string]any{"files": []map[string]string{{"name": "masts.beacon.yaml", "text": text}}, "sync": true, "reason": "zone of the camera team"}
	if err := s.api(ctx, "petra", "POST", "/definitions", body, nil); err != nil {
		return err
	}
	if err := s.served(ctx, "curlew", team); err != nil {
		return err
	}
	return s.make(ctx, "petra", "/domains/"+team+"/delegations", map[string]any{}, nil)
}

// addHosts lets names follow addresses, and reports some.
func (s *Stage) addHosts(ctx context.Context) error {
	for i, label := range []string{"jetty", "slipway", "lighthouse"} {
		var made struct{ Token string }
		body := map[string]any{"name": label + "." + cameras, "v4": true}
		if label == "slipway" {
			body["policy"] = map[string]any{"silence": 3600} // it reports no more
		}
		if err := s.make(ctx, "admin", "/hosts", body, &made); err != nil {
			return err
		}
		if made.Token == "" { // it was added before: its token was shown once
			continue
		}
		if err := s.keep("token-"+label, []byte(made.Token+"\n")); err != nil {
			return err
		}
		for _, last := range []int{10 + i, 60 + i} {
			url := fmt.Sprintf("%s/api/v1/report?v4=203.0.113.%d", s.Address(), last)
			if _, _, err := s.send(ctx, http.MethodGet, url, nil, "Authorization", "Bearer "+made.Token); err != nil {
				return err
			}
		}
	}
	if err := s.addTSIGKey(ctx, "jetty."+cameras); err != nil {
		return err
	}
	return s.addLocation(ctx)
}

// addTSIGKey makes a key with which a client updates a host, and keeps it in a file.
func (s *Stage) addTSIGKey(ctx context.Context, host string) error {
	var made struct{ File string }
	if err := s.make(ctx, "admin", "/tsig-keys", map[string]any{"for": host}, &made); err != nil || made.File == "" {
		return err
	}
	return s.keep("key-jetty", []byte(made.File))
}

// addLocation makes a location with two uplinks, which report, and hosts that follow them.
func (s *Stage) addLocation(ctx context.Context) error {
	var made struct {
		Tokens []struct{ Uplink, Token string }
	}
	month := 30 * 86400 // they report once
	body := map[string]any{"name": "north-pier", "description": "harbour office, tide gauge and camera", "uplinks": []string{"fibre", "lte"}, "policy": map[string]any{"failover": month, "silence": 10 * month, "on_silence": "remove"}}
	if err := s.make(ctx, "admin", "/locations", body, &made); err != nil {
		return err
	}
	for _, host := range []map[string]any{
		{"name": "north-pier." + cameras, "v4": true, "v6": true, "location": "north-pier"},
		{"name": "tide-gauge." + cameras, "v6": true, "location": "north-pier", "below": map[string]any{"subnet": 3, "interface": "::a:1"}},
	} {
		if err := s.make(ctx, "admin", "/hosts", host, nil); err != nil {
			return err
		}
	}
	for _, t := range made.Tokens {
		if err := s.keep("token-north-pier-"+t.Uplink, []byte(t.Token+"\n")); err != nil {
			return err
		}
		says := map[string]string{"fibre": "v4=203.0.113.70&v6=2001:db8:60::7&prefix=2001:db8:60::/56", "lte": "v4=100.64.7.7"}[t.Uplink]
		if _, _, err := s.send(ctx, http.MethodGet, s.Address()+"/api/v1/report?"+says, nil, "Authorization", "Bearer "+t.Token); err != nil {
			return err
		}
	}
	return nil
}

// revise changes records in the names of several users.
func (s *Stage) revise(ctx context.Context) error {
	for i, change := range []struct{ user, zone, owner, data, reason string }{
		{"ines", customers[0] + ".example", "shop", "203.0.113.77", "web shop opens"},
		{"petra", customers[0] + ".example", "shop", "203.0.113.78", "larger machine"},
		{"ines", customers[1] + ".example", "stock", "203.0.113.79", "stock list"},
		{"petra", cameras, "viewer", "198.51.100.90", "viewer for the harbour master"},
		{"admin", cameras, "viewer", "198.51.100.91", "moved to the tower"},
	} {
		body := map[string]any{"ttl": 300, "data": []string{change.data}, "reason": change.reason}
		if err := s.api(ctx, change.user, http.MethodPut, "/zones/"+change.zone+"/sets/"+change.owner+"/A", body, nil); err != nil {
			return fmt.Errorf("change %d: %w", i+1, err)
		}
	}
	return nil
}

// all are the names of all domains.
func all() []string {
	names := append(islands(), Domain, drifting, blocked, saved, lame, settling, nobodys, cameras, silent, unknown, byHand)
	for _, c := range customers {
		names = append(names, c+".example")
	}
	return names
}

// checkAll checks every domain, a few at a time.
func (s *Stage) checkAll(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(6)
	for _, name := range all() {
		group.Go(func() error { return s.api(ctx, "admin", "POST", "/domains/"+name+"/checks", nil, nil) })
	}
	return group.Wait()
}

// move changes nameservers at the registrar: one list is active, one saved only.
func (s *Stage) move(ctx context.Context) error {
	for _, name := range []string{settling, saved} {
		body := map[string]any{"save_only": name == saved, "reason": "the museum's site moves"}
		if err := s.delegate(ctx, name, body); err != nil {
			return err
		}
	}
	return nil
}

// delegate changes nameservers at the registrar, and waits until that is done. Under load a nameserver may be heard too late to be taken for
// ready: then it is asked for again.
func (s *Stage) delegate(ctx context.Context, name string, body map[string]any) error {
	var last struct{ State, Message string }
	err := s.eventually(ctx, "the delegation of "+name, func() (bool, error) {
		var acts struct {
			Items []struct{ Kind, State, Message string }
		}
		if err := s.api(ctx, "ines", http.MethodGet, "/acts?limit=20&subject="+name, nil, &acts); err != nil {
			return false, err
		}
		for _, act := range acts.Items { // the newest first
			if act.Kind != "delegate" {
				continue
			}
			last.State, last.Message = act.State, act.Message
			switch act.State {
			case "done":
				return true, nil
			case "pending", "running", "retrying":
				return false, nil
			}
			break
		}
		return false, s.make(ctx, "ines", "/domains/"+name+"/delegations", body, nil)
	})
	if err != nil && last.State != "" {
		err = fmt.Errorf("%w; the last attempt: %s, %s", err, last.State, last.Message)
	}
	return err
}

// makeTrouble changes a record at the provider, and asks for a change that a guard blocks.
func (s *Stage) makeTrouble(ctx context.Context) error {
	if err := s.ByHand(ctx, "heron", drifting, "north."+drifting+". 3600 IN A 198.51.100.200"); err != nil {
		return err
	}
	few := "@ 300 A 192.0.2.41\nwww 300 A 192.0.2.41\n@ 3600 TXT \"v=spf1 -all\"\nstop-01 3600 A 198.51.100.100\n"
	body := map[string]any{"file": "winter.zone", "text": few, "partial": true, "reason": "winter timetable: one stop"}
	if err := s.api(ctx, "petra", "POST", "/zones/"+blocked+"/imports", body, nil); err != nil {
		return err
	}
	// A sync that an earlier start broke off may still be on its way.
	err := s.eventually(ctx, "the sync of "+blocked, func() (bool, error) {
		err := s.api(ctx, "petra", "POST", "/zones/"+blocked+"/syncs", map[string]any{}, nil)
		if there(err) {
			return false, nil
		}
		return err == nil, err
	})
	if err != nil {
		return err
	}
	return s.api(ctx, "admin", "GET", "/zones/"+drifting+"/differences", nil, nil)
}
