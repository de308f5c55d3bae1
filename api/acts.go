package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

// routesOfActs are what changes something outside and takes its time: it is stored, answered with 202, and followed.
func routesOfActs() []route {
	return []route{
		{method: "GET", effect: looks, path: "/acts", summary: "What users asked for and what changes something outside, newest first", needs: access.See, query: []string{"subject", "cursor", "limit"}, out: wire.Page[wire.Act]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			limit := k.limit()
			before, err := k.before()
			if err != nil {
				return nil, err
			}
			subject := k.Query("subject")
			if name, err := dnsname.Parse(subject); err == nil && subject != "" {
				subject = name.String()
			}
			items, err := k.svc.Acts.List(k.Request.Context(), k.caller, subject, before, limit)
			page := wire.Page[wire.Act]{Items: items}
			if len(items) == limit {
				page.Next = strconv.FormatUint(items[limit-1].ID, 10)
			}
			return page, err
		}},
		{method: "GET", effect: looks, path: "/acts/:id", summary: "One act with its requests", needs: signedIn, out: wire.Act{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an act")
			if err != nil {
				return nil, err
			}
			return k.svc.Acts.Act(k.Request.Context(), k.caller, id)
		}},
		{method: "GET", effect: looks, path: "/hold", summary: "Whether the service is held, and what differs outside", needs: access.See, out: wire.Hold{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Acts.ShowHold(k.Request.Context(), k.caller)
		}},
		{method: "POST", effect: writes, path: "/hold", summary: "Hold the service: it looks, and changes nothing at providers and registrars until it is released", needs: access.Operate, in: wire.HoldRequest{}, out: wire.Hold{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.HoldRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Reason == "" {
				in.Reason = "no reason was given"
			}
			if err := k.svc.Acts.Hold(k.Request.Context(), k.caller, in.Reason); err != nil {
				return nil, err
			}
			return k.svc.Acts.ShowHold(k.Request.Context(), k.caller)
		}},
		{method: "POST", effect: writes, path: "/hold/release", summary: "Release a zone's placements, or everything", needs: access.Operate, in: wire.HoldRelease{}, out: wire.Hold{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.HoldRelease
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Acts.Release(k.Request.Context(), k.caller, in)
		}},
		{method: "POST", effect: writes, path: "/acts/:id/cancellation", summary: "Cancel an act; requests that were sent stay sent", needs: signedIn, in: wire.Cancellation{}, out: wire.Act{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an act")
			if err != nil {
				return nil, err
			}
			var in wire.Cancellation
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Acts.Cancel(k.Request.Context(), k.caller, id, in.Reason)
		}},
		{method: "POST", effect: looks, path: "/domains/:name/delegation-preview", summary: "What a delegation would do, and which gates are closed", needs: access.See, in: wire.DelegateRequest{}, out: wire.Delegated{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DelegateRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.Preview(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/domains/:name/delegations", summary: "Change a domain's nameservers at its registrar, in the background", needs: access.Delegate, in: wire.DelegateRequest{}, out: wire.Act{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DelegateRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			act, err := k.svc.Delegations.Delegate(k.Request.Context(), k.caller, in)
			return k.started(act, err)
		})},
		{method: "POST", effect: looks, path: "/domains/:name/ds-preview", summary: "What a change of the DS set would do, and which gates are closed", needs: access.See, in: wire.DSRequest{}, out: wire.DSChange{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DSRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.PreviewDS(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/domains/:name/ds-changes", summary: "Change a domain's DS set at its registrar, in the background", needs: access.Delegate, in: wire.DSRequest{}, out: wire.Act{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DSRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			act, err := k.svc.Delegations.ChangeDS(k.Request.Context(), k.caller, in)
			return k.started(act, err)
		})},
		{method: "POST", effect: looks, path: "/domains/:name/lock-preview", summary: "Which statuses a domain has at its registrar, and what setting or lifting one would do", needs: access.See, in: wire.LockRequest{}, out: wire.LockChange{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.LockRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.PreviewLock(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/domains/:name/lock-changes", summary: "Set or lift a status of a domain at its registrar, in the background", needs: access.Delegate, in: wire.LockRequest{}, out: wire.Act{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.LockRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			act, err := k.svc.Delegations.ChangeLock(k.Request.Context(), k.caller, in)
			return k.started(act, err)
		})},
		{method: "POST", effect: looks, path: "/zones/:name/deletion-preview", summary: "What the deletion of a zone would do, and which gates block it", needs: access.See, in: wire.DeleteRequest{}, out: wire.Deleted{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DeleteRequest{Zone: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.PreviewDelete(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/zones/:name/deletion", summary: "Delete a zone here; nothing changes at a provider or registrar", needs: access.Place, in: wire.DeleteRequest{}, out: wire.Deleted{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.DeleteRequest{Zone: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.Delete(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: looks, path: "/zones/:name/retirement-preview", summary: "What taking a zone from a provider would do, and which guards block it", needs: access.See, in: wire.RetireRequest{}, out: wire.Retired{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.RetireRequest{Zone: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Delegations.PreviewRetire(k.Request.Context(), k.caller, in)
		})},
		{method: "POST", effect: writes, path: "/zones/:name/retirements", summary: "Remove a zone from a provider, in the background", needs: access.Place, in: wire.RetireRequest{}, out: wire.Act{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.RetireRequest{Zone: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			act, err := k.svc.Delegations.Retire(k.Request.Context(), k.caller, in)
			return k.started(act, err)
		})},
	}
}

// mostWaited is how long a client may have an answer wait for an act to end.
const mostWaited = 60 * time.Second

// started answers that an act was stored: where to follow it and, if the client prefers to wait (RFC 7240 section 4.3), how it ended.
func (k *call) started(act wire.Act, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	k.Header("Location", fmt.Sprintf("%s/acts/%d", Base, act.ID))
	wait := k.preferredWait()
	if wait == 0 {
		return act, nil
	}
	k.Header("Preference-Applied", "wait")
	ctx, cancel := context.WithTimeout(k.Request.Context(), wait)
	defer cancel()
	seq, err := k.svc.Logbook.LastEvent(ctx)
	for err == nil && !act.State.Ended() {
		var more <-chan struct{}
		if _, more, err = k.svc.Logbook.EventsAfter(ctx, seq); err != nil {
			break
		}
		select {
		case <-more:
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return act, nil
		}
		act, err = k.svc.Acts.Act(k.Request.Context(), k.caller, act.ID)
	}
	if ctx.Err() != nil {
		err = nil
	}
	return act, err
}

func (k *call) preferredWait() time.Duration {
	for _, preference := range strings.FieldsFunc(k.GetHeader("Prefer"), func(r rune) bool { return r == ',' || r == ';' || r == ' ' }) {
		if text, ok := strings.CutPrefix(preference, "wait="); ok {
			if n, err := strconv.Atoi(text); err == nil && n > 0 {
				return min(time.Duration(n)*time.Second, mostWaited)
			}
		}
	}
	return 0
}
