package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Window is a time of the week in which a handover may change something outside. The zero value is always.
type Window struct {
	Days     []time.Weekday // none: every day; the day on which it begins
	From, To int            // minutes since midnight; From after To runs over midnight
	Zone     *time.Location // nil: UTC
	set      bool
}

var dayNames = map[string]time.Weekday{"Mon": time.Monday, "Tue": time.Tuesday, "Wed": time.Wednesday, "Thu": time.Thursday, "Fri": time.Friday, "Sat": time.Saturday, "Sun": time.Sunday}

// ParseWindow reads a window such as "Tue,Thu 02:00-04:00", or "22:00-06:00" for every day; the empty text is always.
func ParseWindow(text string, zone *time.Location) (w Window, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return w, nil
	}
	wrong := fmt.Errorf("%q is no window; write it like Tue 02:00-04:00, or Sat,Sun 22:00-06:00", text)
	days, span, found := strings.Cut(text, " ")
	if !found {
		days, span = "", days
	}
	for name := range strings.SplitSeq(days, ",") {
		if days == "" {
			break
		}
		day, known := dayNames[name]
		if !known || slices.Contains(w.Days, day) {
			return Window{}, wrong
		}
		w.Days = append(w.Days, day)
	}
	from, to, found := strings.Cut(strings.TrimSpace(span), "-")
	begin, err1 := time.Parse("15:04", from)
	end, err2 := time.Parse("15:04", to)
	if !found || err1 != nil || err2 != nil || begin.Equal(end) {
		return Window{}, wrong
	}
	w.From, w.To, w.Zone, w.set = begin.Hour()*60+begin.Minute(), end.Hour()*60+end.Minute(), zone, true
	if w.Zone == nil {
		w.Zone = time.UTC
	}
	return w, nil
}

// opens returns when the window is open next: now, or its next beginning.
func (w Window) opens(now time.Time) time.Time {
	if !w.set {
		return now
	}
	local := now.In(w.Zone)
	for day := -1; day <= 8; day++ { // one that began yesterday may run over midnight
		at := time.Date(local.Year(), local.Month(), local.Day()+day, 0, 0, 0, 0, w.Zone)
		if len(w.Days) > 0 && !slices.Contains(w.Days, at.Weekday()) {
			continue
		}
		begin := time.Date(at.Year(), at.Month(), at.Day(), w.From/60, w.From%60, 0, 0, w.Zone)
		last := at.Day()
		if w.To <= w.From {
			last++
		}
		end := time.Date(at.Year(), at.Month(), last, w.To/60, w.To%60, 0, 0, w.Zone)
		if now.Before(end) && end.After(begin) {
			if now.Before(begin) {
				return begin
			}
			return now
		}
	}
	return now
}

// Freeze is a time in which no handover changes anything outside.
type Freeze struct {
	From, To time.Time
	Reason   string
}

// Calendar is when a handover may change something outside.
type Calendar struct {
	Window  Window
	Freezes []Freeze
}

// Opens returns when something may be changed next: now, or a later moment, and why then.
func (k Calendar) Opens(now time.Time) (at time.Time, why string) {
	at = now
	for range 1 + 2*len(k.Freezes) {
		if next := k.Window.opens(at); next.After(at) {
			at, why = next, "its window opens"
		}
		i := slices.IndexFunc(k.Freezes, func(f Freeze) bool { return !at.Before(f.From) && at.Before(f.To) })
		if i < 0 {
			return at, why
		}
		at, why = k.Freezes[i].To, "the freeze ends"
		if k.Freezes[i].Reason != "" {
			why += " (" + k.Freezes[i].Reason + ")"
		}
	}
	return at, why
}

// Hold returns those of some acts that may be begun now; the others wait, until when is in wait. Syncs are always begun: they keep both sides alike.
func (k Calendar) Hold(acts []Do, now time.Time) (kept []Do, wait []Wait) {
	if at, why := k.Opens(now); at.After(now) {
		return hold(acts, Wait{For: why, Until: at})
	}
	return acts, nil
}

// hold keeps back the acts that a user has to allow.
func hold(acts []Do, w Wait) (kept []Do, wait []Wait) {
	for _, do := range acts {
		if slices.Contains(Consent(), do) {
			wait = []Wait{w}
			continue
		}
		kept = append(kept, do)
	}
	return kept, wait
}

// Mate is another handover of a batch.
type Mate struct {
	Domain   string
	UnderWay bool // an act that a user has to allow was begun
	Trouble  bool // its last act did not come about
}

// Batch is a handover among others that are to be done a few at a time.
type Batch struct {
	Name     string
	AtOnce   int    // 0 for all
	UnderWay bool   // this one is: it goes on to its end
	Mates    []Mate // that have not ended
}

// Hold returns those of some acts that may be begun now. Where another one is in trouble, or as many as may be are under way, one that is not under way waits.
func (b Batch) Hold(acts []Do) (kept []Do, wait []Wait) {
	if b.Name == "" || b.UnderWay {
		return acts, nil
	}
	count := 0
	for _, m := range b.Mates {
		if m.Trouble {
			return hold(acts, Wait{For: "the handover of " + m.Domain + ", of the same batch, is out of trouble"})
		}
		if m.UnderWay {
			count++
		}
	}
	if b.AtOnce > 0 && count >= b.AtOnce {
		return hold(acts, Wait{For: fmt.Sprintf("another of the batch %s is done; %d may be under way at a time", b.Name, b.AtOnce)})
	}
	return acts, nil
}
