// Package handover moves domains to other nameservers. delegate.go changes the nameservers at the registrar, once the new ones
// are ready; retire.go takes a zone from a provider, once no resolver is led there any more; wanted.go says which nameservers a domain should
// have. What has to hold before is judged by core/handover.
package handover
