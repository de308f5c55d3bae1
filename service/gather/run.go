package gather

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/provider"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/store"
)

// gatherTime bounds a gathering, real time.
const gatherTime = 20 * time.Minute

// mostReads and mostLag bound how often, and how far apart, an account is read until two reads agree.
const (
	mostReads = 5
	mostLag   = 5 * time.Second
)

// noteEvery is how often a gathering notes how far it is, real time.
const noteEvery = time.Second

// mostSeen is how many addresses of a complete source are asked for, to see what visitors get.
const mostSeen = 500

// source is a source as it is stored.
type source struct {
	Kind   gather.Kind    `json:"kind"`
	Name   string         `json:"name"`
	Claim  gather.Claim   `json:"claim"`
	Why    string         `json:"why"`
	Asked  int            `json:"asked"`
	Sets   []record.Set   `json:"sets"`
	Doubts []gather.Doubt `json:"doubts"`
}

// Run reads all sources of a zone. It is the handler of its jobs, and only reads: one that was broken off begins again.
func (s *Gather) Run(ctx context.Context, job store.Job) error {
	var g store.Gathering
	err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { g, err = tx.Gathering(job.Subject); return err })
	if store.IsMissing(err) || err == nil && g.FinishedAt != nil {
		return nil
	}
	if err != nil {
		return err
	}
	zone, err := dnsname.Parse(g.Domain)
	if err != nil {
		return err
	}
	var in asked
	if err := json.Unmarshal([]byte(g.Asked), &in); err != nil {
		return err
	}
	reading, cancel := context.WithTimeout(ctx, gatherTime)
	defer cancel()
	list, problem := s.gather(reading, zone, in, s.noting(ctx, g.ID))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	found, err := packed(list)
	if err != nil {
		return err
	}
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.EndGathering(g.ID, found, problem); err != nil {
			return err
		}
		detail := problem
		if detail == "" {
			out := gather.Merge(zone, list)
			detail = fmt.Sprintf("%s found, %s", wording.Counted(len(out.Sets), "record set"), claimText(out.Claim))
		}
		return logbook.Log(tx, g.RequestedBy, "zone.gathered", zone.String(), detail)
	})
}

// noting returns what keeps how far a gathering is.
func (s *Gather) noting(ctx context.Context, id uint64) func(string) {
	var mu sync.Mutex
	var last time.Time
	return func(step string) {
		mu.Lock()
		defer mu.Unlock()
		if time.Since(last) < noteEvery {
			return
		}
		last = time.Now()
		_ = s.logbook.Tx(ctx, func(tx *store.Tx) error { return tx.NoteGathering(id, step) })
	}
}

// gather reads the account and the file, and asks the nameservers.
func (s *Gather) gather(ctx context.Context, zone dnsname.Name, in asked, note func(string)) (list []gather.Source, problem string) {
	note("Looking for the nameservers of " + zone.Unicode())
	sweep := s.sweeper.Sweep(ctx, zone, resolve.Scope{Brief: true})
	active := delegatedTo(sweep)
	if from, ok := s.fromAccount(ctx, zone, in.Account, active, note); ok {
		list = append(list, from)
	}
	if file, ok := in.fileSource(); ok {
		list = append(list, s.dated(sweep, file))
	}
	servers := answering(sweep)
	if len(servers) == 0 {
		why := "no nameserver of it answers"
		switch {
		case sweep.Failure != "":
			why = sweep.Failure
		case len(active) == 0:
			why = "it is not delegated"
		}
		list = append(list, gather.Source{Kind: gather.FromAsking, Name: "nameservers", Claim: gather.Failed, Why: why})
	} else {
		list = append(list, s.fromServers(ctx, zone, in, servers, list, note)...)
	}
	if !slices.ContainsFunc(list, func(s gather.Source) bool { return s.Claim != gather.Failed }) {
		var all []string
		for _, s := range list {
			all = append(all, s.Name+": "+s.Why)
		}
		return list, "Nothing was found: " + strings.Join(all, "; ") + ". Connect the account that has the zone (beacon provider add), or bring its zone file."
	}
	return list, ""
}

// fromServers asks nameservers: for all that they have, or where an account has it all, for what visitors get.
func (s *Gather) fromServers(ctx context.Context, zone dnsname.Name, in asked, servers []evidence.Server, have []gather.Source, note func(string)) []gather.Source {
	g := resolve.Gathering{Zone: zone, Servers: servers, Label: madeUp(), Progress: func(way gather.Kind, asked, names int) {
		note(fmt.Sprintf("%s: %s, %s with records", kindText(way), wording.Counted(asked, "question"), wording.Counted(names, "name")))
	}}
	if len(have) > 0 && have[0].Claim == gather.Complete {
		var keys []record.Key
		for set := range have[0].Contents.Sets() {
			if k := set.Key(); k.Type == record.A || k.Type == record.AAAA {
				keys = append(keys, k)
			}
		}
		if len(keys) == 0 {
			return nil
		}
		return []gather.Source{s.sweeper.AskKnown(ctx, g, keys[:min(len(keys), mostSeen)])}
	}
	for _, text := range in.Names {
		if name, err := nameIn(zone, text); err == nil {
			g.Names = append(g.Names, name)
		}
	}
	for _, set := range in.Sets {
		g.Names = append(g.Names, set.Name)
	}
	if known, err := s.zones.WantedAddresses(ctx, access.Service, zone); err == nil {
		for set := range known.Sets() {
			g.Names = append(g.Names, set.Name)
		}
	}
	slices.SortFunc(g.Names, dnsname.Name.Compare)
	g.Names = slices.Compact(g.Names)
	return s.sweeper.Gather(ctx, g)
}

// fromAccount reads the zone from the account that is named, or from the connected one whose nameservers are active.
func (s *Gather) fromAccount(ctx context.Context, zone dnsname.Name, named string, active []dnsname.Name, note func(string)) (out gather.Source, ok bool) {
	var list []store.Account
	if err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { list, err = accounts.Providers(tx); return err }); err != nil {
		return gather.Source{Kind: gather.FromAccount, Name: named, Claim: gather.Failed, Why: err.Error()}, named != ""
	}
	for _, a := range list {
		if named != "" && a.Name != named {
			continue
		}
		note("Looking into account " + a.Name)
		out = gather.Source{Kind: gather.FromAccount, Name: a.Name, Claim: gather.Failed}
		contents, servers, there, err := s.readAccount(ctx, a, zone)
		switch {
		case err != nil:
			out.Why = logbook.Explain(err).Error()
		case !there:
			out.Why = "the account has no such zone"
		case named == "" && len(active) > 0 && !slices.ContainsFunc(servers, func(n dnsname.Name) bool { return slices.Contains(active, n) }):
			continue // it does not serve the domain now
		default:
			out.Contents, out.Claim, out.Why = contents, gather.Complete, "all records that the account lists"
			return out, true
		}
		if named != "" {
			return out, true
		}
	}
	return out, false
}

func (s *Gather) readAccount(ctx context.Context, a store.Account, zone dnsname.Name) (c record.Contents, servers []dnsname.Name, there bool, err error) {
	driver, err := s.accounts.Provider(a)
	if err != nil {
		return c, nil, false, err
	}
	reading, cancel := context.WithTimeout(ctx, s.timeout*8)
	defer cancel()
	found, there, err := provider.FindZone(reading, driver, zone)
	if err != nil || !there {
		return c, nil, false, err
	}
	c, err = readSurely(reading, driver, found.Ref)
	return c, found.Nameservers, true, err
}

// readSurely reads a zone until two reads agree that lie as far apart as the provider's reads may lag behind its writes: one read may show what was before a change.
func readSurely(ctx context.Context, driver provider.Driver, zone provider.ZoneRef) (c record.Contents, err error) {
	caps, err := driver.Describe(ctx, zone)
	if err != nil {
		return c, err
	}
	for reads := 0; ; reads++ {
		state, err := provider.ReadAll(ctx, driver, zone, provider.State{})
		if err != nil || caps.ReadLag == 0 || reads > 0 && state.Contents.Equal(c) {
			return state.Contents, err
		}
		if reads > mostReads {
			return c, fmt.Errorf("the zone changes all the while; gather its records once more")
		}
		c = state.Contents
		select {
		case <-time.After(min(caps.ReadLag, mostLag)):
		case <-ctx.Done():
			return c, context.Cause(ctx)
		}
	}
}

// dated compares the serial of a file with the one that is served: the same serial means the same zone.
func (s *Gather) dated(sweep evidence.Sweep, file gather.Source) gather.Source {
	var serial string
	for set := range file.Contents.Sets() {
		if fields := strings.Fields(string(first(set.Data))); set.Type == record.SOA && len(fields) == 7 {
			serial = fields[2]
		}
	}
	for _, a := range sweep.Servers {
		if a.Answer != evidence.Positive {
			continue
		}
		served := fmt.Sprint(a.SOA.Serial)
		switch {
		case serial == "":
			file.Why = "it has no SOA record, so nobody can tell how old it is"
		case serial == served:
			file.Claim, file.Why = gather.Complete, "its serial "+serial+" is the one that is served"
		default:
			file.Why = fmt.Sprintf("its serial is %s, and %s is served: the zone has changed since", serial, served)
		}
		break
	}
	return file
}

func first(data []record.Data) record.Data {
	if len(data) == 0 {
		return ""
	}
	return data[0]
}

// delegatedTo returns the nameservers that the parents name.
func delegatedTo(sweep evidence.Sweep) (set []dnsname.Name) {
	for _, p := range sweep.Parents {
		set = append(set, p.NS...)
	}
	return dnsname.SortSet(set)
}

// answering returns one address of each nameserver of the domain that answers for it, and all further ones after those.
func answering(sweep evidence.Sweep) (list []evidence.Server) {
	var more []evidence.Server
	for _, a := range sweep.Servers {
		switch {
		case a.Answer != evidence.Positive:
		case slices.ContainsFunc(list, func(s evidence.Server) bool { return s.Name == a.Name }):
			more = append(more, a.Server)
		default:
			list = append(list, a.Server)
		}
	}
	return append(list, more...)
}

// madeUp returns a label that nobody has.
func madeUp() string {
	var label [5]byte
	_, _ = rand.Read(label[:])
	return "beacon-" + hex.EncodeToString(label[:])
}

// packed returns sources in the form in which they are stored.
func packed(list []gather.Source) ([]byte, error) {
	rows := make([]source, len(list))
	for i, s := range list {
		rows[i] = source{Kind: s.Kind, Name: s.Name, Claim: s.Claim, Why: s.Why, Asked: s.Asked, Doubts: s.Doubts}
		for set := range s.Contents.Sets() {
			rows[i].Sets = append(rows[i].Sets, set)
		}
	}
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	if err := json.NewEncoder(z).Encode(rows); err != nil {
		return nil, err
	}
	err := z.Close()
	return out.Bytes(), err
}

// unpacked reads what packed returns.
func unpacked(found []byte) (list []gather.Source, err error) {
	if len(found) == 0 {
		return nil, nil
	}
	z, err := gzip.NewReader(bytes.NewReader(found))
	if err != nil {
		return nil, err
	}
	var rows []source
	if err := json.NewDecoder(z).Decode(&rows); err != nil {
		return nil, err
	}
	for _, r := range rows {
		list = append(list, gather.Source{Kind: r.Kind, Name: r.Name, Claim: r.Claim, Why: r.Why, Asked: r.Asked, Doubts: r.Doubts, Contents: record.ContentsOf(r.Sets...)})
	}
	return list, nil
}
