package accounts

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"beacon/store"
)

// lookWait bounds how long the address of an account's host is looked up, real time.
const lookWait = 2 * time.Second

// ReportInner logs the accounts of a former version that were added for a private address, where the settings do not allow its network: such an account
// does not reach its provider any more. So it does with those that would send their credential in plain text.
func (s *Accounts) ReportInner(ctx context.Context) error {
	var list []store.Account
	var all []store.Account
	err := s.store.Look(ctx, func(tx *store.Tx) (err error) {
		if list, err = tx.PrivateAccounts(); err == nil {
			all, err = tx.Accounts("")
		}
		return err
	})
	if err != nil {
		return err
	}
	for _, a := range all {
		if err := s.secured(a); err != nil {
			s.log.Warn("an account would send its credential in plain text, and is not used", "account", a.Name, "reason", err)
		}
	}
	for _, a := range list {
		for _, addr := range addressesOf(ctx, a.Address) {
			if err := s.door.Check(addr); err != nil {
				s.log.Warn("an account is at a private address that may not be reached", "account", a.Name, "address", a.Address,
					"add to the settings", fmt.Sprintf("allowed_networks: [0.0.0.0/0, \"::/0\", %q]", netip.PrefixFrom(addr, addr.BitLen())))
			}
		}
	}
	return nil
}

// addressesOf returns the IP addresses of the hosts in an account's address, which may be a list.
func addressesOf(ctx context.Context, address string) (list []netip.Addr) {
	ctx, cancel := context.WithTimeout(ctx, lookWait)
	defer cancel()
	for text := range strings.SplitSeq(address, ",") {
		u, err := url.Parse(strings.TrimSpace(text))
		if err != nil {
			continue
		}
		found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
		if err != nil {
			continue // nobody reaches it either
		}
		for _, addr := range found {
			if addr = addr.Unmap(); !slices.Contains(list, addr) {
				list = append(list, addr)
			}
		}
	}
	return list
}
