package wire

import (
	"time"
)

type ClockNow struct {
	World time.Time `json:"world"`
	Rate  float64   `json:"rate"` // simulated seconds in a real second
}
