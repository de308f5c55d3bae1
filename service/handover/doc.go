// Package handover moves domains to other nameservers, made of the acts that stand below it: syncs, changes at the registrar, and the retirement
// of the old zone.
//
// begin.go stores what is to be done; drive.go looks at the domain each time that a check was kept or a moment has come, decides (core/handover), and keeps the decision
// with its marks; acts.go begins the acts that follow, and knows what became of them. words.go is what users say of it, show.go what they see, plan.go a handover as it
// is stored. forecast.go returns when each step would come.
package handover
