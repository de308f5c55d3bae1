package api

import (
	"context"
	"errors"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"beacon/service/logbook"
	"beacon/wire"
)

// How the service's kinds of problems look over HTTP.
var problemKinds = map[wire.ProblemKind]struct {
	status int
	title  string
}{
	wire.Invalid:        {http.StatusUnprocessableEntity, "This cannot be used as it is"},
	wire.NotFound:       {http.StatusNotFound, "Not here"},
	wire.Blocked:        {http.StatusConflict, "Something is in the way"},
	wire.Unconditional:  {http.StatusPreconditionRequired, "Say what you looked at"},
	wire.Stale:          {http.StatusPreconditionFailed, "It has changed since then"},
	wire.UpstreamFailed: {http.StatusBadGateway, "A provider or registrar failed"},
	wire.Unavailable:    {http.StatusServiceUnavailable, "The database is away"},
	wire.Limited:        {http.StatusTooManyRequests, "Too much at a time"},
	wire.NotSignedIn:    {http.StatusUnauthorized, "Not signed in"},
	wire.NotPermitted:   {http.StatusForbidden, "Not permitted"},
}

// retryAfter is when clients should try again while the database is away, seconds.
const retryAfter = "5"

// brokenOff reports whether a request was ended because the database was found away. Whatever error came of that says nothing more.
func brokenOff(c *gin.Context) bool { return logbook.Passing(context.Cause(c.Request.Context())) }

// fail answers with a problem document. Errors that are not meant for people are logged and kept inside.
func (a *api) fail(c *gin.Context, err error) {
	var p *wire.Problem
	if !errors.As(err, &p) && (logbook.Passing(err) || brokenOff(c)) {
		p = logbook.Away(c.Request.Method != http.MethodGet)
	}
	if p == nil {
		a.log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
		writeProblem(c, http.StatusInternalServerError, wire.ProblemDocument{Type: "urn:agile-beacon:problem:internal", Title: "The service failed",
			Detail: "Something went wrong inside the service; its log says what. Requests to providers may already have been sent: see the logbook."})
		return
	}
	if p.Kind == wire.Unavailable {
		c.Header("Retry-After", retryAfter)
	}
	if p.Kind == wire.Limited {
		c.Header("Retry-After", strconv.Itoa(max(p.After, 1)))
	}
	kind := problemKinds[p.Kind]
	if kind.status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", "Bearer")
	}
	writeProblem(c, kind.status, wire.ProblemDocument{Type: "urn:agile-beacon:problem:" + string(p.Kind), Title: kind.title, Detail: p.Message,
		Faults: p.Faults, Findings: p.Findings})
}

func writeProblem(c *gin.Context, status int, d wire.ProblemDocument) {
	if d.Type == "" {
		d.Type = "about:blank"
	}
	d.Status = status
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, d)
}
