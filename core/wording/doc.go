// Package wording holds small helpers for sentences that people read. It knows nothing of what the sentences are about.
package wording
