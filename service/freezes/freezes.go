// Package freezes says when handovers may change something outside: within a window, and not on days that are frozen.
package freezes

import (
	"time"

	"beacon/core/handover"
	"beacon/wire"
)

// Settings say when handovers may change something outside.
type Settings struct {
	Freezes []Freeze `yaml:"freezes"`
}

// Freeze is a span of days on which no handover changes anything outside.
type Freeze struct {
	From     string `yaml:"from"`     // the first day, such as 2026-12-20
	To       string `yaml:"to"`       // the last day
	Timezone string `yaml:"timezone"` // such as Europe/Berlin; empty for UTC
	Reason   string `yaml:"reason"`   // shown where a handover waits for it
}

// Check reports what is wrong with the settings.
func (s Settings) Check(fail func(format string, args ...any)) {
	for i, f := range s.Freezes {
		if _, err := f.freeze(); err != nil {
			fail("handovers.freezes, entry %d: %s; write days like 2026-12-20, the first before the last, and a timezone like Europe/Berlin", i+1, err)
		}
	}
}

func (f Freeze) freeze() (out handover.Freeze, err error) {
	zone, err := time.LoadLocation(f.Timezone)
	if err != nil {
		return out, err
	}
	if out.From, err = time.ParseInLocation(time.DateOnly, f.From, zone); err != nil {
		return out, err
	}
	last, err := time.ParseInLocation(time.DateOnly, f.To, zone)
	if err == nil && last.Before(out.From) {
		_, err = time.Parse(time.DateOnly, f.To+" is before "+f.From)
	}
	out.To, out.Reason = last.AddDate(0, 0, 1), f.Reason
	return out, err
}

// Calendar returns when a handover may change something outside, or a problem with its window.
func (s Settings) Calendar(window, timezone string) (k handover.Calendar, err error) {
	zone, err := time.LoadLocation(timezone)
	if err != nil {
		return k, wire.Problemf(wire.Invalid, "%q is no timezone; write one like Europe/Berlin. Nothing was changed.", timezone)
	}
	if k.Window, err = handover.ParseWindow(window, zone); err != nil {
		return k, wire.Problemf(wire.Invalid, "%s. Nothing was changed.", err)
	}
	for _, f := range s.Freezes {
		if freeze, err := f.freeze(); err == nil {
			k.Freezes = append(k.Freezes, freeze)
		}
	}
	return k, nil
}
