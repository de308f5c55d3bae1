// Package delegate changes what registrars hold of domains, and retires zones. delegate.go changes the nameservers at the registrar, or goes back to those
// before, once every gate is open; compare.go asks both sides for what they answer; retire.go takes a zone from a provider, once no resolver is
// led there any more. All of them are acts: stored, done in the background, and followed. What has to hold is judged by core/handover.
package delegate
