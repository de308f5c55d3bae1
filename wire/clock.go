package wire

import (
	"time"
)

type ClockNow struct {
	World   time.Time `json:"world"`
	Rate    float64   `json:"rate"`              // simulated seconds in a real second
	Reached bool      `json:"reached,omitempty"` // a step came to the time that was asked for, and all work that was due is done
}

// ClockStep asks for a step of the simulated clock.
type ClockStep struct {
	Until time.Time `json:"until"` // the simulated time to which steps lead
}
