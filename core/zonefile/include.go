package zonefile

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
)

// Included is a file that a zone file takes in.
type Included struct {
	Name string // as it is said in faults, and as further names in it are relative to
	Text string
}

// deepestInclude bounds how far files include files that include files.
const deepestInclude = 8

// include reads another file in the place of the directive (RFC 1035 section 5.1). Neither the origin, the owner nor the
// TTL that hold in this file are changed by it.
func (r *reader) include(e *entry, args []field) {
	if len(args) < 1 || len(args) > 2 {
		r.fault(e.place, "$INCLUDE takes a file and, if need be, an origin", "")
		return
	}
	if r.opt.Include == nil {
		r.fault(e.place, "$INCLUDE is not read here: this text came without its folder", "write the records out, or put the files together first: beacon zone convert FILE --as zonefile")
		return
	}
	origin := r.origin
	if len(args) == 2 {
		var err error
		if origin, err = dnsname.ParseRelative(args[1].text, r.origin); err != nil {
			r.fault(args[1].place, err.Error(), "")
			return
		}
	}
	file, err := r.opt.Include(strings.Trim(args[0].text, `"`), r.opt.File)
	switch {
	case err != nil:
		r.fault(args[0].place, err.Error(), "")
		return
	case file.Name == r.opt.File || slices.Contains(r.within, file.Name):
		r.fault(args[0].place, fmt.Sprintf("%s includes itself", file.Name), "remove one of the $INCLUDE lines")
		return
	case len(r.within) == deepestInclude:
		r.fault(args[0].place, fmt.Sprintf("files include files more than %d deep", deepestInclude), "")
		return
	}
	opt := Options{File: file.Name, Include: r.opt.Include}
	inner := &reader{opt: opt, origin: origin, owner: r.owner, ttl: r.ttl, hasTTL: r.hasTTL, within: append(slices.Clone(r.within), r.opt.File), made: r.made}
	inner.readText(file.Text)
	r.zone.Records = append(r.zone.Records, inner.zone.Records...)
	for range inner.zone.Records {
		r.zone.Places = append(r.zone.Places, e.place)
	}
	r.faults = append(r.faults, inner.faults...)
}
