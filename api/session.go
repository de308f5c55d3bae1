package api

import (
	"errors"
	"mime"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/service/logbook"
	"beacon/wire"
)

// sessionCookie holds the token of somebody who signed in with the console. Scripts cannot read it, and no other site's
// page can have it sent along.
const sessionCookie = "beacon-session"

func startSession(k *call) (any, error) {
	if err := k.onlyJSON(); err != nil {
		return nil, err
	}
	var in wire.SignIn
	if err := k.body(&in); err != nil {
		return nil, err
	}
	token, expires, err := k.svc.Users.SignIn(k.Request.Context(), in.Name, in.Password, k.from())
	if err != nil {
		return nil, err
	}
	if in.Browser {
		k.setSession(token, int(time.Until(expires)/time.Second))
		token = ""
	}
	return wire.SignedIn{Token: token, Expires: expires}, nil
}

// onlyJSON refuses bodies of another type, which a page of another site could send unasked.
func (k *call) onlyJSON() error {
	if media, _, _ := mime.ParseMediaType(k.GetHeader("Content-Type")); media != "application/json" {
		return wire.Problemf(wire.Invalid, "A sign-in is JSON: send it with the Content-Type application/json.")
	}
	return nil
}

// currentSession returns who is signed in. That nobody is, is no error here: the console asks before it knows.
func currentSession(k *call) (any, error) {
	err := k.authenticate(signedIn)
	var p *wire.Problem
	if errors.As(err, &p) && p.Kind == wire.NotSignedIn {
		return wire.Me{}, nil
	}
	if err != nil {
		return nil, err
	}
	return k.me(), err
}

func endSession(k *call) (any, error) {
	k.setSession("", -1)
	return nil, k.svc.Users.SignOut(k.Request.Context(), k.caller, k.token)
}

func (k *call) setSession(token string, seconds int) {
	http.SetCookie(k.Writer, &http.Cookie{Name: sessionCookie, Value: token, Path: Base, MaxAge: seconds, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: k.Request.TLS != nil || k.proxied() && k.GetHeader("X-Forwarded-Proto") != "http"})
}

var crossOrigin = http.NewCrossOriginProtection()

// authenticate finds out who asks: by a token in the header or, for the console, in the cookie. A caller that may never do what is needed, or not in
// the zone of the path, is refused here, before anything is read; whether it may do so to an object, the use case decides.
func (k *call) authenticate(needs access.Action) error {
	token := k.bearer()
	if token == "" {
		cookie, err := k.Request.Cookie(sessionCookie)
		if err != nil {
			return &wire.Problem{Kind: wire.NotSignedIn, Message: "Sign in first: beacon sign-in. Programs send a token in the header Authorization: Bearer TOKEN."}
		}
		if err := crossOrigin.Check(k.Request); err != nil {
			return &wire.Problem{Kind: wire.NotPermitted, Message: "This request comes from another site's page, which may not act in your name."}
		}
		token = cookie.Value
	}
	used := needs
	if needs == signedIn {
		used = ""
	}
	caller, err := k.svc.Users.Caller(k.Request.Context(), token, k.from(), used)
	if err != nil {
		return err
	}
	k.token, k.caller = token, caller
	k.Request = k.Request.WithContext(logbook.OnBehalf(k.Request.Context(), caller.Name))
	if needs == signedIn {
		return nil
	}
	if !caller.Ever(needs) {
		return wire.Permit(caller, needs, access.Everything)
	}
	if path := k.FullPath(); strings.HasPrefix(path, Base+"/zones/:name") || strings.HasPrefix(path, Base+"/domains/:name") {
		if zone, err := k.domain(); err == nil && !caller.Touches(needs, zone) {
			return wire.Permit(caller, needs, access.Zone(zone))
		}
	}
	return nil
}

// me is who asks.
func (k *call) me() wire.Me {
	return wire.Me{Name: k.caller.Name, Grants: k.caller.Grants, Actions: k.caller.Somewhere(), Everywhere: k.caller.Everywhere()}
}

// from returns the address that the request came from, as far as proxies that the settings trust tell it.
func (k *call) from() netip.Addr {
	from, _ := netip.ParseAddr(k.ClientIP())
	return from
}

func (k *call) bearer() string {
	token, ok := strings.CutPrefix(k.GetHeader("Authorization"), "Bearer ")
	if !ok {
		return ""
	}
	return token
}
