package profile

import (
	"fmt"

	"github.com/yosida95/uritemplate/v3"

	"beacon/core/change"
	"beacon/outcall"
	"beacon/registrar"
)

// Profile describes an interface of a provider, or of a registrar.
type Profile struct {
	Name  string // accounts have it as their kind
	About string
	Caps  change.Caps

	credential credential
	errors     errorRules
	rate       float64    // requests a second that are allowed; 0 where it is not said
	wait       expression // seconds to wait when requests are refused for being too many
	zones      *call
	find       *call
	create     *call
	remove     *call
	look       *call // a small read that tells the change mark
	read       *call
	write      *call
	verbs      map[string]*call // in place of write, for interfaces with a request for each change
	poll       *call
	rights     *call

	registrar *registrarCalls // of a registrar; nil for a provider
}

// OfRegistrar reports whether the profile describes a registrar's interface.
func (p *Profile) OfRegistrar() bool { return p.registrar != nil }

// RegistrarCaps returns what the registrar is like.
func (p *Profile) RegistrarCaps() registrar.Caps { return p.registrar.caps }

// Rate returns the requests a second that the interface allows, or 0 where the profile does not say.
func (p *Profile) Rate() float64 { return p.rate }

// Fault is what is wrong with a profile, and where.
type Fault struct {
	File         string
	Line, Column int
	Message      string
	Remedy       string
}

func (f Fault) Error() string {
	text := fmt.Sprintf("%s:%d:%d: %s.", f.File, f.Line, f.Column, f.Message)
	if f.Remedy != "" {
		text += " " + f.Remedy
	}
	return text
}

// expression is a jq program; empty for none.
type expression string

// call is one kind of request.
type call struct {
	method  string
	path    *uritemplate.Template
	headers map[string]expression
	body    expression
	media   string // content type of a body that is a text; empty for JSON

	each    expression // items of the answer
	one     expression // the one thing that the answer is
	next    expression // where the list goes on
	link    bool       // the list goes on where the Link header says
	start   string     // cursor of the first page
	mark    expression
	receipt expression
	done    expression
	failed  expression
}

// credential returns how the secret travels.
type credential struct {
	send   string // header, basic, query or signature
	name   string // of the header or the parameter
	prefix string
	hash   string     // of a signature: sha256 or sha512
	over   expression // what is signed
	value  expression // what the header then says
	date   string     // header with the time of the request
}

// errorRules say how failures are told apart beyond their status.
type errorRules struct {
	when    expression // an answer that looks well is a failure
	code    expression
	message expression
	kinds   map[string]outcall.Kind
}

// Variables that expressions may use, in this order.
var variables = []string{"$status", "$headers", "$zone"}
