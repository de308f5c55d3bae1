// Package jq evaluates jq expressions that others have written, within bounds of time and memory that hold whatever the
// expression does.
//
// The library that runs them bounds time only. So they run in worker processes, which the operating system lets have so
// much memory and no more (worker.go), and which are started again when they have died of it (pool.go). Check finds faults
// without running anything.
package jq
