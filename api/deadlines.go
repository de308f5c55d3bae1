package api

import (
	"io"
	"log/slog"
	"net/http"
	"time"

	"beacon/service"
)

// How long clients may take, real time. A header and the body of a client that has not signed in come within openTime; other bodies go on coming, with
// pauses of at most bodyPause, within bodyTime. An answer is taken within answerTime, and each part of a stream within streamTime.
const (
	openTime   = 10 * time.Second
	bodyPause  = 30 * time.Second
	bodyTime   = 10 * time.Minute
	answerTime = 11 * time.Minute
	streamTime = 30 * time.Second
	idleTime   = 2 * time.Minute
)

// mostHeader is how many octets the header of a request has at most.
const mostHeader = 16 << 10

// NewServer returns the server of an instance, which cuts clients that are too slow. It logs what it cannot tell a client.
func NewServer(svc *service.Service, log *slog.Logger) *http.Server {
	return &http.Server{Handler: New(svc, log), ReadHeaderTimeout: openTime, IdleTimeout: idleTime, MaxHeaderBytes: mostHeader,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
}

// begin sets the deadlines that hold before it is known who asks.
func begin(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	now := time.Now()
	_ = rc.SetWriteDeadline(now.Add(answerTime)) // where the server is a test's recorder, there are none
	if r.ContentLength != 0 {
		_ = rc.SetReadDeadline(now.Add(openTime))
		r.Body = &steady{body: r.Body, rc: rc, until: now.Add(openTime), pause: openTime}
	}
}

// welcome lets the body of a client that has signed in take its time.
func welcome(r *http.Request) {
	if b, ok := r.Body.(*steady); ok {
		b.until, b.pause = time.Now().Add(bodyTime), bodyPause
		b.push()
	}
}

// steady is a body that has to go on coming.
type steady struct {
	body  io.ReadCloser
	rc    *http.ResponseController
	until time.Time     // by when all of it has come
	pause time.Duration // how long nothing may come
}

func (s *steady) push() {
	next := time.Now().Add(s.pause)
	if s.until.Before(next) {
		next = s.until
	}
	_ = s.rc.SetReadDeadline(next)
}

// Read reads more of the body. At its end the deadline goes: what the server reads from then on only tells whether the client is still there.
func (s *steady) Read(b []byte) (int, error) {
	n, err := s.body.Read(b)
	switch {
	case err == io.EOF:
		_ = s.rc.SetReadDeadline(time.Time{})
	case err == nil:
		s.push()
	}
	return n, err
}

// Close closes the body.
func (s *steady) Close() error { return s.body.Close() }
