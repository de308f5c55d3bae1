package reporter

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// State is what a reporter did last, for those who ask whether it still runs.
type State struct {
	Host    string            `json:"host,omitempty"` // empty where the token says it
	Address string            `json:"address"`        // of the service
	PID     int               `json:"pid"`
	Began   time.Time         `json:"began"`
	Every   time.Duration     `json:"every"`
	Tried   time.Time         `json:"tried,omitzero"`   // the last report
	Reached time.Time         `json:"reached,omitzero"` // the last report that the service answered
	Next    time.Time         `json:"next,omitzero"`
	Said    map[string]string `json:"said,omitempty"`    // what was reported last, by parameter
	Answers map[string]string `json:"answers,omitempty"` // what the service made of it
	Trouble map[string]string `json:"trouble,omitempty"` // why it is not known which address there is
	Refused bool              `json:"refused,omitempty"` // the last one was, or nobody reaches the address
}

// late is how many intervals a reporter may be without an answer before it counts as not reporting.
const late = 2

// Reports reports whether a reporter reported in time, and was not refused.
func (s State) Reports(now time.Time) bool {
	return !s.Reached.IsZero() && now.Sub(s.Reached) < late*s.Every+time.Minute && !s.Refused
}

// keep writes the state so that it is never half there.
func (s State) keep(path string) error {
	if path == "" {
		return nil
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".new", append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// ReadState returns what a reporter did last.
func ReadState(path string) (s State, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, fmt.Errorf("%s is no state of a reporter: %w", path, err)
	}
	return s, nil
}
