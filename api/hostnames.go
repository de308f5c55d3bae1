package api

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"beacon/core/special"
	"beacon/wire"
)

// known reports whether a request names this service: by a name of the settings, or as this machine. Without names in the settings every address is right,
// since only a name can be led here by another site's resolver; and every name, where the service is not on this machine alone.
func (a *api) known(r *http.Request) bool {
	host := r.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	names := a.svc.HostNames()
	if special.ThisMachine(host) || slices.Contains(names, host) {
		return true
	}
	_, wrong := netip.ParseAddr(host)
	return len(names) == 0 && (wrong == nil || a.svc.OnNetwork())
}

// named refuses requests under another host name than one of the service's. Whether it is alive may be asked under any.
func (a *api) named(c *gin.Context) {
	if a.known(c.Request) || slices.Contains([]string{"/healthz", "/readyz"}, c.Request.URL.Path) {
		return
	}
	writeProblem(c, http.StatusMisdirectedRequest, wire.ProblemDocument{Title: "Another name",
		Detail: "This service is not asked under the name " + c.Request.Host + ". Its names are in the setting host_names."})
}

// proxied reports whether a request came through a proxy that the settings trust.
func (k *call) proxied() bool {
	from, err := netip.ParseAddr(k.RemoteIP())
	if err != nil {
		return false
	}
	return slices.ContainsFunc(k.svc.TrustedProxies(), func(text string) bool {
		p, err := netip.ParsePrefix(text)
		return err == nil && p.Contains(from.Unmap())
	})
}
