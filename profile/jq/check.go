package jq

import (
	"errors"
	"fmt"

	"github.com/itchyny/gojq"
)

// Memory is what a worker may have, in octets.
const Memory = 512 << 20

// Limits bound one evaluation.
const (
	maxInput  = 64 << 20 // octets of JSON in
	maxOutput = 64 << 20 // octets of JSON out
)

// Fault is what is wrong with an expression.
type Fault struct {
	Offset  int // octets into the expression
	Message string
}

func (f *Fault) Error() string { return f.Message }

// Check reports what is wrong with an expression that may use the given variables, such as "$status"; nil for nothing.
func Check(expression string, variables ...string) error {
	_, err := compile(expression, variables)
	return err
}

func compile(expression string, variables []string) (*gojq.Code, error) {
	query, err := gojq.Parse(expression)
	if err != nil {
		var parse *gojq.ParseError
		if errors.As(err, &parse) {
			where := fmt.Sprintf("%q is not expected here", parse.Token)
			if parse.Token == "" {
				where = "the expression ends too early"
			}
			return nil, &Fault{max(0, parse.Offset-len(parse.Token)), where}
		}
		return nil, &Fault{0, err.Error()}
	}
	code, err := gojq.Compile(query, gojq.WithVariables(variables))
	if err != nil {
		return nil, &Fault{0, err.Error()}
	}
	return code, nil
}
