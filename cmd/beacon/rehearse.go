package main

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"beacon/cli"
	"beacon/core/dnsname"
	"beacon/demo"
)

// rehearse plays a handover through on a stage of its own, beside a demo or a tour that may be running.
func rehearse(_ context.Context, r cli.Rehearsal, out io.Writer) error {
	dir, err := os.MkdirTemp("", "beacon-rehearsal")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	opt := demo.Options{Dir: filepath.Join(dir, "world"), Listen: "127.0.0.1:8073", Net: 55, DNSPort: 5301, HTTPPort: 8074, Rate: 60, Fast: true}
	ctx, stop, err := staged(&opt)
	if err != nil {
		return err
	}
	defer stop()
	return demo.Rehearse(ctx, opt, demo.Rehearsal{Domain: dnsname.Short(r.Domain), Zone: r.Zone, DelegationTTL: r.DelegationTTL, NSTTL: r.NSTTL, Signed: r.Signed, Sign: r.Sign, Lower: r.Lower, Grace: r.Grace}, out)
}
