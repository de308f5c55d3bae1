package wire

import (
	"time"
)

type ClockNow struct {
	World time.Time `json:"world"`
	Rate  float64   `json:"rate"` // world seconds in one of the wall's
}
