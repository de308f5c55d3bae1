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
// is connected. A side that answers nothing at all is not
// compared with. compared is how many names and types were asked for.
func (s *Delegations) compareSides(ctx context.Context, m move, old []dnsname.Name, sweep evidence.Sweep) (list []compare.Difference, compared int, err error) {
	before, after := answering(sweep, old), answering(sweep, m.target)
	if len(before) == 0 || len(after) == 0 || slices.Equal(old, m.target) {
		return []compare.Difference{}, 0, nil
	}
	desired, err := s.zones.WantedAddresses(ctx, access.Service, m.request.Domain)
	if err != nil {
		return nil, 0, err
	}
	known, err := s.atOldProvider(ctx, m.request.Domain, old)
	if err != nil {
		return nil, 0, err
	}
	questions := compare.Questions(m.request.Domain, madeUp(), desired, known)
	if len(questions)*(len(before)+len(after)) > mostQuestions {
		before, after = before[:1], after[:1]
	}
	was, is := compare.Answers{}, compare.Answers{}
	open := questions
	for again := 0; again < timesAsked && len(open) > 0; again++ { // what rotates shows it by and by
		s.askAll(ctx, before, open, was)
		s.askAll(ctx, after, open, is)
		if ctx.Err() != nil {
			return nil, 0, context.Cause(ctx)
		}
		list = compare.Compare(questions, was, is)
		open = slices.DeleteFunc(slices.Clone(open), func(q compare.Question) bool {
			return !slices.ContainsFunc(list, func(d compare.Difference) bool { return d.Key == q.Shown && d.Kind == compare.Changed })
		})
	}
	return append([]compare.Difference{}, list...), len(questions), nil
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

// atOldProvider reads the zone from the connected account whose nameservers are active; it is empty where none is connected.
func (s *Delegations) atOldProvider(ctx context.Context, name dnsname.Name, old []dnsname.Name) (c record.Contents, err error) {
	var list []store.Account
	if err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { list, err = accounts.Providers(tx); return err }); err != nil {
		return c, err
	}
	for _, a := range list {
		driver, err := s.accounts.Provider(a)
		if err != nil {
			continue // its credential or kind is of no use now; what can be asked over DNS is asked
		}
		reading, cancel := context.WithTimeout(ctx, 4*s.timeout)
		defer cancel()
		zone, there, err := provider.FindZone(reading, driver, name)
		if err != nil || !there || !slices.ContainsFunc(zone.Nameservers, func(n dnsname.Name) bool { return slices.Contains(old, n) }) {
			continue
		}
		state, err := provider.ReadAll(reading, driver, zone.Ref, provider.State{})
		return state.Contents, err
	}
	return c, nil
}
