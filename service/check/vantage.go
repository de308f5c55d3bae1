package check

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/core/evidence"
	"beacon/resolve"
	"beacon/wire"
)

// Bounds of what others may have asked.
const (
	mostSweepServers = 64
	mostSweepSets    = 32
)

// Sweep asks about a domain from here and gives what came back; nothing is judged or kept.
func (s *Checks) Sweep(ctx context.Context, by access.Caller, r wire.SweepRequest) (evidence.Sweep, error) {
	if err := wire.Permit(by, access.Sweep, access.Zone(r.Domain)); err != nil {
		return evidence.Sweep{}, err
	}
	if r.Domain.IsZero() || r.Domain.IsRoot() {
		return evidence.Sweep{}, wire.Problemf(wire.Invalid, "Say which domain to ask about.")
	}
	for _, k := range r.Watched {
		if !k.Name.IsAtOrBelow(r.Domain) {
			return evidence.Sweep{}, wire.Problemf(wire.Invalid, "%s is not at or below %s: a sweep asks only about names of its domain.", k.Name.Unicode(), r.Domain.Unicode())
		}
	}
	if len(r.Nameservers) > mostSweepServers || len(r.Watched) > mostSweepSets {
		return evidence.Sweep{}, wire.Problemf(wire.Invalid, "At most %d nameservers and %d record sets are asked at a time.", mostSweepServers, mostSweepSets)
	}
	ctx, cancel := context.WithTimeout(ctx, CheckTime)
	defer cancel()
	sweep := s.sweeper.Sweep(ctx, r.Domain, resolve.Scope{Nameservers: r.Nameservers, Watched: r.Watched})
	return sweep, nil
}

// fromPlaces has all vantage points ask about a domain, at the same time.
func (s *Checks) fromPlaces(ctx context.Context, r wire.SweepRequest) []evidence.Place {
	places := make([]evidence.Place, len(s.settings.Places))
	var group sync.WaitGroup
	for i, p := range s.settings.Places {
		group.Go(func() {
			places[i].Name = p.Name
			began := time.Now()
			sweep, err := s.askPlace(ctx, p, r)
			if err == nil && sweep.Failure != "" {
				err = fmt.Errorf("it could not ask: %s", sweep.Failure)
			}
			s.calls.WithLabelValues("place "+p.Name, placeWord(err)).Inc()
			if err != nil {
				places[i].Problem = err.Error()
				s.logbook.Note(ctx, "service", "vantage-point.failed", r.Domain.String(), fmt.Sprintf("%s: %s (%d ms)", p.Name, err, time.Since(began).Milliseconds()))
				return
			}
			places[i].Parents, places[i].Servers, places[i].Resolvers = sweep.Parents, sweep.Servers, sweep.Resolvers
		})
	}
	group.Wait()
	return places
}

func placeWord(err error) string {
	if err != nil {
		return "failed"
	}
	return "done"
}

func (s *Checks) askPlace(ctx context.Context, p VantageSettings, r wire.SweepRequest) (sweep evidence.Sweep, err error) {
	token, err := os.ReadFile(p.TokenFile)
	if err != nil {
		return sweep, fmt.Errorf("its token cannot be read: %w", err)
	}
	at, err := url.JoinPath(p.Address, "/api/v1/sweeps")
	if err != nil {
		return sweep, err
	}
	body, err := json.Marshal(r)
	if err != nil {
		return sweep, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, bytes.NewReader(body))
	if err != nil {
		return sweep, err
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	req.Header.Set("Content-Type", "application/json")
	client := *s.http
	client.Timeout = CheckTime // a sweep takes longer than other requests
	res, err := client.Do(req)
	if err != nil {
		return sweep, fmt.Errorf("it does not answer: %w", err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return sweep, fmt.Errorf("it answers with the status %d", res.StatusCode)
	}
	if err := json.NewDecoder(http.MaxBytesReader(nil, res.Body, 16<<20)).Decode(&sweep); err != nil {
		return sweep, fmt.Errorf("its answer cannot be read: %w", err)
	}
	if sweep.Version > evidence.Version {
		return sweep, fmt.Errorf("it answers in version %d of evidence, and this instance reads up to %d: upgrade this one", sweep.Version, evidence.Version)
	}
	return sweep, nil
}
