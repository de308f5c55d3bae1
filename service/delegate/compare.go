package delegate

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/handover/compare"
	"beacon/core/record"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/store"
)

// mostQuestions is how many questions are asked of both sides; where every server would be asked more, one of each side is.
const mostQuestions = 2000

// askedAtOnce is how many of them are on their way at a time.
const askedAtOnce = 32

// compareSides asks both sides for all names and types of the desired zone, and for those that the old provider's account has, where one
// is connected. A side that answers nothing at all is not compared with; sets that a side relays by a declared attribute are not either.
func (s *Delegations) compareSides(ctx context.Context, m move, old []dnsname.Name, found *seen) error {
	before, after := answering(found.sweep, old), answering(found.sweep, m.target)
	if len(before) == 0 || len(after) == 0 || slices.Equal(old, m.target) {
		return nil
	}
	desired, err := s.zones.WantedAddresses(ctx, access.Service, m.request.Domain)
	if err != nil {
		return err
	}
	both, err := s.atAccounts(ctx, m, old)
	if err != nil {
		return err
	}
	found.relays = both.left
	var list []compare.Difference
	questions := compare.Without(compare.Questions(m.request.Domain, madeUp(), desired, both.known), both.relays)
	if len(questions)*(len(before)+len(after)) > mostQuestions {
		before, after = before[:1], after[:1]
	}
	was, is := compare.Answers{}, compare.Answers{}
	open := questions
	for again := 0; again < timesAsked && len(open) > 0; again++ { // what rotates shows it by and by
		s.askAll(ctx, before, open, was)
		s.askAll(ctx, after, open, is)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		list = compare.Compare(questions, was, is)
		open = slices.DeleteFunc(slices.Clone(open), func(q compare.Question) bool {
			return !slices.ContainsFunc(list, func(d compare.Difference) bool { return d.Key == q.Shown && d.Kind == compare.Changed })
		})
	}
	found.Differences, found.Compared = append([]compare.Difference{}, list...), len(questions)
	return nil
}

// timesAsked is how often the sides are asked for what they answer differently.
const timesAsked = 3

// madeUp returns a label that nobody has.
func madeUp() string {
	var label [5]byte
	_, _ = rand.Read(label[:])
	return "beacon-" + hex.EncodeToString(label[:])
}

// answering returns the addresses of a set that answer for the zone.
func answering(sweep evidence.Sweep, set []dnsname.Name) (list []evidence.Server) {
	for _, a := range evidence.ServersOf(sweep, set) {
		if a.Answer == evidence.Positive {
			list = append(list, a.Server)
		}
	}
	return list
}

// askAll asks servers, and adds what they answer.
func (s *Delegations) askAll(ctx context.Context, servers []evidence.Server, questions []compare.Question, answers compare.Answers) {
	var mu sync.Mutex
	var group errgroup.Group
	group.SetLimit(askedAtOnce)
	for _, server := range servers {
		for _, q := range questions {
			group.Go(func() error {
				calling, cancel := context.WithTimeout(ctx, s.timeout)
				defer cancel()
				o := s.sweeper.AskSet(calling, server, q.Key)
				mu.Lock()
				defer mu.Unlock()
				answers[q.Key] = append(answers[q.Key], o)
				return nil
			})
		}
	}
	_ = group.Wait()
}

// sides is what connected accounts tell of both sides.
type sides struct {
	known  record.Contents // of the old one, empty where no account has it
	relays []record.Key    // sets that one of them answers with something of its own, by a declared attribute
	left   []record.Key    // those of the old one
}

// atAccounts reads the zone from the connected account whose nameservers are active, and which sets either side relays.
func (s *Delegations) atAccounts(ctx context.Context, m move, old []dnsname.Name) (out sides, err error) {
	var list []store.Account
	if err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { list, err = accounts.Providers(tx); return err }); err != nil {
		return out, err
	}
	for _, a := range list {
		driver, err := s.accounts.Provider(a)
		if err != nil {
			continue // its credential or kind is of no use now; what can be asked over DNS is asked
		}
		reading, cancel := context.WithTimeout(ctx, 4*s.timeout)
		defer cancel()
		zone, there, err := provider.FindZone(reading, driver, m.request.Domain)
		if err != nil || !there {
			continue
		}
		of := func(set []dnsname.Name) bool {
			return slices.ContainsFunc(zone.Nameservers, func(n dnsname.Name) bool { return slices.Contains(set, n) })
		}
		if !of(old) && !of(m.target) {
			continue
		}
		caps, err := driver.Describe(reading, zone.Ref)
		if err != nil {
			return out, err
		}
		if of(m.target) {
			for _, declared := range m.zone.ZoneSettings().Attributes {
				if caps.Relayed(declared.Values) {
					out.relays = append(out.relays, declared.Key)
				}
			}
		}
		if !of(old) {
			continue
		}
		state, err := provider.ReadAll(reading, driver, zone.Ref, provider.State{})
		if err != nil {
			return out, err
		}
		out.known = state.Contents
		for k, d := range state.Details {
			if caps.Relayed(d.Attributes) {
				out.relays, out.left = append(out.relays, k), append(out.left, k)
			}
		}
	}
	return out, nil
}
