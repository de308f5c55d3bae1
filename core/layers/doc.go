// Package layers puts together what a zone should contain: a revision, which people and files write, and layers on top of it that
// somebody else owns. Child zones own their delegation, machines own the addresses that they report, the target of an ALIAS owns what it answers, and TTLs are lowered
// for a time ahead of a change. A layer never goes into a revision: taken away, it leaves what is desired without it.
//
// layers.go says what a layer is and which keys it owns; over.go lays them on top of a revision. Both are pure: who keeps the layers
// is package zones, and what a provider can hold of the outcome is said by package change.
package layers
