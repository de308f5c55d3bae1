// Package acts is the one way outside: every request that changes something at a provider or registrar goes through here.
//
// An act is stored before its request is sent, with what was seen, what shall be, and a deadline that ends before the lease does; its
// outcome is stored afterwards (request.go). What nobody knows the outcome of is waited out and looked at, never sent again on suspicion.
// Locks keep two acts from one subject (lock.go): they last as long as the lease of the job that has them. run.go does what
// users ask for and what may take several requests: under the locks of its kind it looks, decides, sends, and looks again, until
// nothing is left. Rooms above register the kinds. views.go shows acts.
//
// A sync is no act of a user's: it has rows of its own, and its requests are acts.
package acts
