// Package handover moves domains to other nameservers, made of the acts that stand below it: syncs, changes at the registrar, and the retirement
// of the old zone. forecast.go returns when each of them would come. What comes next is decided by core/handover.
package handover
