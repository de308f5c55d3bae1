package api

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

// The headers in which proxies say where a request came from. What they say counts where the settings trust the proxy.
const (
	forwardedHeader = "Forwarded"       // RFC 7239
	listHeader      = "X-Forwarded-For" // addresses alone
	singleHeader    = "X-Real-Ip"
)

// readForwarded has Forwarded read as X-Forwarded-For is. Where a request has both and they differ, a client wrote one of them, and neither is believed.
func readForwarded(c *gin.Context) {
	given := c.Request.Header.Values(forwardedHeader)
	if len(given) == 0 {
		return
	}
	hops := forwardedFor(strings.Join(given, ","))
	if list := c.Request.Header.Values(listHeader); len(list) > 0 && !slices.Equal(hops, splitHops(strings.Join(list, ","))) {
		c.Request.Header.Del(listHeader)
		c.Request.Header.Del(singleHeader)
		return
	}
	c.Request.Header.Set(listHeader, strings.Join(hops, ","))
	c.Request.Header.Del(singleHeader)
}

func splitHops(text string) (hops []string) {
	for one := range strings.SplitSeq(text, ",") {
		hops = append(hops, strings.TrimSpace(one))
	}
	return hops
}

// unknownHop stands for a hop without an address.
const unknownHop = "unknown"

// forwardedFor returns the addresses of a Forwarded header, the nearest hop last (RFC 7239 section 4). A hop that hides its address, or cannot be read, is unknown.
func forwardedFor(text string) (hops []string) {
	for _, element := range splitQuoted(text, ',') {
		hop := unknownHop
		for _, pair := range splitQuoted(element, ';') {
			if name, value, ok := strings.Cut(strings.TrimSpace(pair), "="); ok && strings.EqualFold(name, "for") {
				hop = hopOf(value)
			}
		}
		hops = append(hops, hop)
	}
	return hops
}

// hopOf returns the address of a node (RFC 7239 section 6), which may be quoted, in brackets, and with a port.
func hopOf(node string) string {
	node = strings.TrimSuffix(strings.TrimPrefix(node, `"`), `"`)
	if at, err := netip.ParseAddrPort(node); err == nil {
		return at.Addr().String()
	}
	bare := strings.TrimSuffix(strings.TrimPrefix(node, "["), "]")
	if at, err := netip.ParseAddr(bare); err == nil && at.Is6() == strings.HasPrefix(node, "[") {
		return at.String()
	}
	return unknownHop
}

// splitQuoted parts a text at a separator that is in no quoted string.
func splitQuoted(text string, separator byte) (parts []string) {
	begin, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quoted:
			i++
		case text[i] == '"':
			quoted = !quoted
		case text[i] == separator && !quoted:
			parts, begin = append(parts, text[begin:i]), i+1
		}
	}
	return append(parts, text[begin:])
}
