package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"beacon/clock"
	"beacon/core/access"
	"beacon/service/logbook"
	"beacon/wire"
)

// stillHere is how often a stream without events says that it lives, so that nobody in between cuts it.
const stillHere = 15 * time.Second

// streamPace is how long a stream that has just sent something gathers what comes next, real time.
const streamPace = 100 * time.Millisecond

// eventStream is the one route that does not answer and end: server-sent events, one for each line of the logbook, from
// the one sequence that all readers share.
var eventStream = route{method: "GET", effect: looks, path: "/events", summary: "What happens, as it happens (server-sent events); resumes after Last-Event-ID",
	needs: access.See, query: []string{"after", "requests"}, status: http.StatusOK, stream: streamEvents, most: 128}

// streamEvents sends events until the reader goes or the instance stops. Where the reader does not say after which
// event to begin, it begins now.
func streamEvents(k *call) error {
	ctx := k.Request.Context()
	after, err := k.beginAfter()
	if err != nil {
		return err
	}
	requests := k.Query("requests") == "true"
	shows := logbook.ShownTo(k.caller)
	k.Header("Content-Type", "text/event-stream")
	k.Header("X-Accel-Buffering", "no")
	k.Status(http.StatusOK)
	fmt.Fprintf(k.Writer, "retry: 500\n: begins after %d\n\n", after)
	k.Writer.Flush()
	rc := http.NewResponseController(k.Writer)
	flush := func() { // a reader that takes nothing is let go
		_ = rc.SetWriteDeadline(time.Now().Add(streamTime))
		k.Writer.Flush()
	}
	alive := time.NewTicker(stillHere)
	defer alive.Stop()
	ended, stop := k.svc.Users.Ended(k.token)
	defer stop()
	for {
		select {
		case <-ended: // also while one event follows the other
			fmt.Fprint(k.Writer, "event: signed-out\ndata: {}\n\n")
			flush()
			return nil
		default:
		}
		list, more, err := k.svc.Logbook.EventsAfter(ctx, after)
		if err != nil {
			return nil // the headers are gone already; the reader comes back by itself
		}
		sent := false
		for _, e := range list {
			if e.Action == "user.granted" { // perhaps to the reader, or to the maker of its token
				caller, err := k.svc.Users.Caller(ctx, k.token, k.from(), "")
				if err != nil || !caller.Ever(access.See) {
					return nil
				}
				shows = logbook.ShownTo(caller)
			}
			if after = *e.Seq; e.Action == "request" && !requests || !shows(e.Entry) {
				continue
			}
			_ = rc.SetWriteDeadline(time.Now().Add(streamTime))
			if _, err := k.Writer.Write(e.Text); err != nil {
				return nil
			}
			sent = true
		}
		if sent {
			flush()
			if clock.Pause(ctx, streamPace) != nil { // what comes in a row goes out together
				continue
			}
		}
		if len(list) > 0 {
			continue
		}
		select {
		case <-more:
		case <-ended:
		case <-alive.C:
			fmt.Fprint(k.Writer, ": still here\n\n")
			flush()
		case <-k.svc.Logbook.Stopped():
			return nil
		case <-ctx.Done():
			if since, reason := k.svc.Away(); !since.IsZero() { // the stream ends, and says why
				fmt.Fprintf(k.Writer, "event: away\ndata: {\"since\":%q,\"reason\":%q}\n\n", since.UTC().Format(time.RFC3339), reason)
				flush()
			}
			return nil
		}
	}
}

// beginAfter is the number after which a stream begins.
func (k *call) beginAfter() (uint64, error) {
	text := k.GetHeader("Last-Event-ID")
	if text == "" {
		text = k.Query("after")
	}
	if text == "" {
		return k.svc.Logbook.LastEvent(k.Request.Context())
	}
	after, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, &wire.Problem{Kind: wire.Invalid, Message: "Last-Event-ID is the number of an event."}
	}
	return after, nil
}
