// Package api serves the service over HTTP under /api/v1. One table of routes (routes.go) says what there is; it feeds
// the router, the right that each route needs, and the OpenAPI document (openapi.go). Errors are problem documents
// (problem.go, RFC 9457). Nothing is decided here that the service could decide.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"beacon/console"
	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/looking"
	"beacon/service"
	"beacon/service/logbook"
	"beacon/wire"
)

// Base is the path that all routes stand below.
const Base = "/api/v1"

// maxBody bounds request bodies, in octets; maxZoneFile those that are a zone file, maxOpen those of clients that have not signed in.
const (
	maxOpen     = 4 << 10
	maxBody     = 16 << 20
	maxZoneFile = 256 << 20
)

// zoneFileType is the media type of a zone file (RFC 4027).
const zoneFileType = "text/dns"

// New returns the handler of everything that an instance serves.
func New(svc *service.Service, log *slog.Logger) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.UseRawPath, engine.UnescapePathValues = true, true // names of zones may have a slash in them (RFC 2317)
	_ = engine.SetTrustedProxies(svc.TrustedProxies())        // none, unless the settings name some: else a client could claim any address
	engine.HandleMethodNotAllowed = true
	a := &api{svc: svc, log: log}
	engine.Use(readForwarded, a.guard, a.named)
	for _, r := range routes() {
		engine.Handle(r.method, Base+r.path, a.serve(r))
	}
	document := openAPI(routes())
	engine.GET(Base+"/openapi.json", func(c *gin.Context) { c.JSON(http.StatusOK, document) })
	engine.GET("/schemas/definition.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/schema+json", definition.Schema) })
	engine.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	engine.GET("/readyz", func(c *gin.Context) {
		if err := svc.Ready(c.Request.Context()); err != nil {
			c.Header("Retry-After", retryAfter)
			c.String(http.StatusServiceUnavailable, "not ready: %s\n", err)
			return
		}
		c.String(http.StatusOK, "ok\n")
	})
	engine.GET("/metrics", a.metrics)
	pages, err := console.Handler()
	if err != nil {
		log.Error("there is no console", "error", err)
	}
	engine.NoRoute(func(c *gin.Context) {
		if reading := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead; reading && pages != nil && !strings.HasPrefix(c.Request.URL.Path, "/api/") {
			c.Status(http.StatusOK) // else the router's "not found" stays
			pages.ServeHTTP(c.Writer, c.Request)
			return
		}
		a.fail(c, &wire.Problem{Kind: wire.NotFound, Message: fmt.Sprintf("There is nothing at %s. What there is says %s/openapi.json.", c.Request.URL.Path, Base)})
	})
	engine.NoMethod(func(c *gin.Context) {
		writeProblem(c, http.StatusMethodNotAllowed, wire.ProblemDocument{Title: "Not possible here", Detail: c.Request.Method + " is not possible at " + c.Request.URL.Path + "."})
	})
	return engine
}

// metrics serves the metrics, which name accounts, to who may see everything.
func (a *api) metrics(c *gin.Context) {
	k := &call{Context: c, svc: a.svc}
	err := k.authenticate(access.See)
	if err == nil {
		err = wire.Permit(k.caller, access.See, access.Everything)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.svc.Metrics().ServeHTTP(c.Writer, c.Request)
}

type api struct {
	svc   *service.Service
	log   *slog.Logger
	slots slots
}

// guard catches what breaks, logs each request, and sets the headers that every answer has.
func (a *api) guard(c *gin.Context) {
	start := time.Now()
	begin(c.Writer, c.Request)
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Cache-Control", "no-store")
	if c.Request.TLS != nil {
		c.Header("Strict-Transport-Security", "max-age=31536000")
	}
	defer func() {
		if broken := recover(); broken != nil {
			if broken == http.ErrAbortHandler {
				panic(broken)
			}
			a.log.Error("a request broke", "path", c.Request.URL.Path, "panic", broken)
			a.fail(c, errors.New("panic"))
		}
		a.log.Debug("request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took", time.Since(start))
	}()
	c.Next()
}

// call is one request on its way through a route.
type call struct {
	*gin.Context
	svc    *service.Service
	token  string
	caller access.Caller
	open   bool // nobody has to sign in for the route
	slots  *slots
}

// serve finds out who asks, whether that may be, and lets the route do its work.
func (a *api) serve(r route) gin.HandlerFunc {
	return func(c *gin.Context) {
		k := &call{Context: c, svc: a.svc, open: r.needs == anybody, slots: &a.slots}
		if since, _ := a.svc.Away(); !since.IsZero() {
			a.fail(c, logbook.Away(false))
			return
		}
		ctx, cancel := context.WithCancelCause(c.Request.Context())
		defer cancel(nil)
		up := a.svc.Up()
		defer context.AfterFunc(up, func() { cancel(context.Cause(up)) })() // nothing waits for a database that is away
		c.Request = c.Request.WithContext(ctx)
		fail := func(err error) {
			var p *wire.Problem
			if errors.As(err, &p) && p.Kind == wire.NotPermitted && k.caller.Name != "" {
				a.svc.Users.Refused(c.Request.Context(), k.caller, k.from(), r.method+" "+r.path)
			}
			a.fail(c, err)
		}
		if r.needs != anybody {
			if err := k.authenticate(r.needs); err != nil {
				fail(err)
				return
			}
			welcome(c.Request)
		}
		if r.most > 0 {
			leave, err := a.slots.enter(r.method+" "+r.path, k.caller.UserID, r.most)
			if err != nil {
				fail(err)
				return
			}
			defer leave()
		}
		if r.effect == looks {
			k.looking()
		}
		if err := k.checkQuery(r); err != nil && r.stream == nil { // those answer faults in their own form
			fail(err)
			return
		}
		if r.stream != nil {
			if err := r.stream(k); err != nil {
				fail(err)
			}
			return
		}
		var out any
		err := k.matches(r.match)
		if err == nil {
			out, err = a.once(k, r)
		}
		switch {
		case err != nil:
			fail(err)
		case out == nil:
			c.Status(http.StatusNoContent)
		default:
			if r.tagged && c.Writer.Header().Get("ETag") == "" {
				c.Header("ETag", `"`+tagOf(out)+`"`)
			}
			c.JSON(r.status, withoutNulls(out))
		}
	}
}

// looking makes sure that the request changes nothing.
func (k *call) looking() { k.Request = k.Request.WithContext(looking.On(k.Request.Context())) }

// domain reads the name in the path.
func (k *call) domain() (dnsname.Name, error) {
	name, err := dnsname.Parse(k.Param("name"))
	if err != nil {
		return name, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("%s.", err)}
	}
	return name, nil
}

// sent returns the request's body, which ends with an error where it is larger than is taken.
func (k *call) sent() io.ReadCloser {
	most := int64(maxBody)
	switch {
	case k.open:
		most = maxOpen
	case k.ContentType() == zoneFileType:
		most = maxZoneFile
	}
	return http.MaxBytesReader(k.Writer, k.Request.Body, most)
}

// unread is what went wrong with a body.
func unread(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		size := fmt.Sprintf("%d MiB", large.Limit>>20)
		if large.Limit < 1<<20 {
			size = fmt.Sprintf("%d KiB", large.Limit>>10)
		}
		text := fmt.Sprintf("The body has more than %s, the most that is taken; nothing was changed.", size)
		if large.Limit == maxBody {
			text += " Send a large zone file as it is, with the Content-Type " + zoneFileType + "."
		}
		return wire.Problemf(wire.Invalid, "%s", text)
	}
	return wire.Problemf(wire.Invalid, "The body cannot be read: %s.", strings.TrimPrefix(err.Error(), "json: "))
}

// body reads the request's JSON strictly: what is not known is an error, not ignored.
func (k *call) body(into any) error {
	decoder := json.NewDecoder(k.sent())
	decoder.DisallowUnknownFields()
	err := decoder.Decode(into)
	if err == nil && decoder.Decode(&struct{}{}) != io.EOF {
		err = errors.New("there is more than one JSON value")
	}
	if err != nil {
		return unread(err)
	}
	return nil
}
