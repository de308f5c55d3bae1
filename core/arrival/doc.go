// Package arrival judges whether the sites of a domain can be reached.
package arrival

// Report is whether the sites of a domain can be reached.
type Report struct{}
