// Package diff compares three states of a zone and says what is to be done.
//
// Wanted is what the zone should contain, already projected through the provider's capabilities. Placed is what we
// last put there. Live is what the provider has now. Only all three together tell our change from drift, a conflict
// from a foreign record. The law: applying the change list to live gives wanted, plus what is foreign, plus drift and
// conflicts that nobody has decided yet.
package diff
