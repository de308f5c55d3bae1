package api

import (
	"net/http"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/paste"
	"beacon/core/record"
	"beacon/wire"
)

// routesOfDrafts are those by which records are changed by hand.
func routesOfDrafts() []route {
	return []route{
		{method: "GET", effect: looks, path: "/zones/:name/draft", summary: "What is being changed in the zone; its ETag goes into If-Match of whatever changes it", needs: access.See, out: wire.Draft{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return tagged(k, func() (wire.Draft, error) { return k.svc.Zones.Draft(k.Request.Context(), k.caller, name) })
		})},
		{method: "POST", effect: writes, path: "/zones/:name/draft/edits", summary: "Change the draft, under If-Match", needs: access.Edit, in: wire.DraftChange{}, out: wire.Draft{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			tag, err := k.ifMatch()
			if err != nil {
				return nil, err
			}
			var in wire.DraftChange
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return tagged(k, func() (wire.Draft, error) { return k.svc.Zones.EditDraft(k.Request.Context(), k.caller, name, tag, in) })
		})},
		{method: "DELETE", effect: writes, path: "/zones/:name/draft", summary: "Drop the draft, under If-Match", needs: access.Edit, status: http.StatusNoContent, handle: named(func(k *call, name dnsname.Name) (any, error) {
			tag, err := k.ifMatch()
			if err != nil {
				return nil, err
			}
			return nil, k.svc.Zones.DiscardDraft(k.Request.Context(), k.caller, name, tag)
		})},
		{method: "POST", effect: writes, path: "/zones/:name/draft/acceptance", summary: "Accept the draft as the next revision, under If-Match", needs: access.Edit, in: wire.AcceptDraft{}, out: wire.Revision{}, status: http.StatusCreated, handle: named(func(k *call, name dnsname.Name) (any, error) {
			tag, err := k.ifMatch()
			if err != nil {
				return nil, err
			}
			var in wire.AcceptDraft
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Zones.AcceptDraft(k.Request.Context(), k.caller, name, tag, in.Reason)
		})},
		{method: "POST", effect: looks, path: "/zones/:name/recognitions", summary: "Make records of pasted text; nothing is kept", needs: access.See, in: wire.Pasted{}, out: wire.Page[paste.Row]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.Pasted
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return wire.Page[paste.Row]{Items: paste.Read(in.Text, name, in.TTL)}, nil
		})},
		{method: "POST", effect: looks, path: "/zones/:name/data", summary: "Make record data of named fields; nothing is kept", needs: access.See, in: wire.JoinFields{}, out: wire.JoinedData{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.JoinFields
			if err := k.body(&in); err != nil {
				return nil, err
			}
			data, err := record.FormOf(in.Type).Join(in.Fields, name)
			if err != nil {
				return nil, &wire.Problem{Kind: wire.Invalid, Message: sentence(err.Error())}
			}
			return wire.JoinedData{Data: data}, nil
		})},
		{method: "GET", effect: looks, path: "/record-types", summary: "Record types with their fields", needs: access.See, out: wire.Page[record.Form]{}, status: http.StatusOK, handle: func(*call) (any, error) {
			return wire.Page[record.Form]{Items: record.Forms()}, nil
		}},
	}
}

func sentence(text string) string { return strings.ToUpper(text[:1]) + text[1:] + "." }

// tagged answers with the draft's tag as its ETag.
func tagged(k *call, get func() (wire.Draft, error)) (any, error) {
	d, err := get()
	if err == nil {
		k.Header("ETag", `"`+d.Tag+`"`)
	}
	return d, err
}

// ifMatch reads the tag of what the caller looked at.
func (k *call) ifMatch() (string, error) {
	tag := strings.Trim(k.GetHeader("If-Match"), `"`)
	if tag == "" {
		return "", &wire.Problem{Kind: wire.Unconditional, Message: "If-Match is missing: send the ETag of the draft that you read. Without it, changes of another user could be overwritten. Nothing changed."}
	}
	return tag, nil
}
