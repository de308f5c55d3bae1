package service

import _ "embed"

// ExampleSettings is a settings file that needs a password only, with every other setting and its default as a comment.
//
//go:embed example.yaml
var ExampleSettings string
