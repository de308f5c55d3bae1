package reporter

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	core "beacon/core/reporter"
)

// addresses returns the addresses of an interface, or of all where name is empty, with what the kernel knows about each (rtnetlink(7)).
func addresses(name string) (list []core.Address, err error) {
	index := uint32(0)
	if name != "" {
		if index, err = indexOf(name); err != nil {
			return nil, err
		}
	}
	messages, err := dump(unix.RTM_GETADDR)
	if err != nil {
		return nil, err
	}
	for _, m := range messages {
		if m.Header.Type != unix.RTM_NEWADDR || len(m.Data) < unix.SizeofIfAddrmsg {
			continue
		}
		if at := binary.NativeEndian.Uint32(m.Data[4:]); index != 0 && at != index {
			continue
		}
		a, ok := addressOf(m)
		if ok {
			list = append(list, a)
		}
	}
	return list, nil
}

// addressOf reads a message about an address.
func addressOf(m syscall.NetlinkMessage) (a core.Address, ok bool) {
	attrs, err := syscall.ParseNetlinkRouteAttr(&m)
	if err != nil {
		return a, false
	}
	flags, bits := uint32(m.Data[2]), int(m.Data[1])
	var addr, local netip.Addr
	a.Preferred = core.Forever
	for _, attr := range attrs {
		switch attr.Attr.Type {
		case unix.IFA_ADDRESS:
			addr, _ = netip.AddrFromSlice(attr.Value)
		case unix.IFA_LOCAL: // on point-to-point lines the other one is the peer's
			local, _ = netip.AddrFromSlice(attr.Value)
		case unix.IFA_FLAGS:
			if len(attr.Value) >= 4 {
				flags = binary.NativeEndian.Uint32(attr.Value)
			}
		case unix.IFA_CACHEINFO:
			if len(attr.Value) >= 4 {
				if seconds := binary.NativeEndian.Uint32(attr.Value); seconds != ^uint32(0) {
					a.Preferred = time.Duration(seconds) * time.Second
				}
			}
		}
	}
	if local.IsValid() {
		addr = local
	}
	if !addr.IsValid() || bits > addr.BitLen() {
		return a, false
	}
	a.Prefix = netip.PrefixFrom(addr, bits)
	a.Temporary, a.Deprecated = flags&unix.IFA_F_TEMPORARY != 0, flags&unix.IFA_F_DEPRECATED != 0
	a.Tentative = flags&(unix.IFA_F_TENTATIVE|unix.IFA_F_DADFAILED) != 0 && flags&unix.IFA_F_OPTIMISTIC == 0
	return a, true
}

func indexOf(name string) (uint32, error) {
	messages, err := dump(unix.RTM_GETLINK)
	if err != nil {
		return 0, err
	}
	for _, m := range messages {
		if m.Header.Type != unix.RTM_NEWLINK || len(m.Data) < unix.SizeofIfInfomsg {
			continue
		}
		attrs, err := syscall.ParseNetlinkRouteAttr(&m)
		if err != nil {
			continue
		}
		for _, attr := range attrs {
			if attr.Attr.Type == unix.IFLA_IFNAME && string(attr.Value[:max(len(attr.Value)-1, 0)]) == name {
				return binary.NativeEndian.Uint32(m.Data[4:]), nil
			}
		}
	}
	return 0, errors.New("there is none of this name")
}

// gateway returns the router that the IPv4 default route leads to.
func gateway() (netip.Addr, error) {
	messages, err := dump(unix.RTM_GETROUTE)
	if err != nil {
		return netip.Addr{}, err
	}
	var best netip.Addr
	lowest := ^uint32(0)
	for _, m := range messages {
		if m.Header.Type != unix.RTM_NEWROUTE || len(m.Data) < unix.SizeofRtMsg || m.Data[0] != unix.AF_INET || m.Data[1] != 0 {
			continue
		}
		attrs, err := syscall.ParseNetlinkRouteAttr(&m)
		if err != nil {
			continue
		}
		var via netip.Addr
		metric := uint32(0)
		for _, attr := range attrs {
			switch attr.Attr.Type {
			case unix.RTA_GATEWAY:
				via, _ = netip.AddrFromSlice(attr.Value)
			case unix.RTA_PRIORITY:
				if len(attr.Value) >= 4 {
					metric = binary.NativeEndian.Uint32(attr.Value)
				}
			}
		}
		if via.IsValid() && (!best.IsValid() || metric < lowest) {
			best, lowest = via, metric
		}
	}
	if !best.IsValid() {
		return best, errors.New("there is no default route; name the router: router:ADDRESS")
	}
	return best, nil
}

// dump asks the kernel for all that it has of a kind.
func dump(kind int) ([]syscall.NetlinkMessage, error) {
	table, err := syscall.NetlinkRIB(kind, syscall.AF_UNSPEC)
	if err != nil {
		return nil, os.NewSyscallError("netlink", err)
	}
	return syscall.ParseNetlinkMessage(table)
}

// watch calls changed whenever an address or a route of this machine changes, until ctx ends.
func watch(ctx context.Context, changed func()) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.NETLINK_ROUTE)
	if err != nil {
		return os.NewSyscallError("netlink", err)
	}
	file := os.NewFile(uintptr(fd), "netlink") // with the runtime's poller, so that it waits without a thread
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: unix.RTMGRP_IPV4_IFADDR | unix.RTMGRP_IPV6_IFADDR | unix.RTMGRP_IPV4_ROUTE | unix.RTMGRP_LINK}); err != nil {
		file.Close()
		return os.NewSyscallError("netlink", err)
	}
	stop := context.AfterFunc(ctx, func() { file.Close() })
	defer func() {
		if stop() {
			file.Close()
		}
	}()
	buf := make([]byte, 32<<10)
	for {
		_, err := file.Read(buf)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil && !errors.Is(err, unix.ENOBUFS) { // some were lost: it is looked at everything anyhow
			return fmt.Errorf("netlink: %w", err)
		}
		changed()
	}
}
