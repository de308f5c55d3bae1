package special

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPlainText(t *testing.T) {
	for address, host := range map[string]string{
		"http://api.heron.example":         "api.heron.example",
		"HTTP://api.heron.example:80/v1":   "api.heron.example",
		"http://192.0.2.7:8080":            "192.0.2.7",
		"http://[2001:db8::7]":             "2001:db8::7",
		"http://localhost.example":         "localhost.example",
		"http://inner.example":             "", // the settings name it
		"https://api.heron.example":        "",
		"http://127.0.0.1:8053":            "",
		"http://[::1]:8053":                "",
		"http://localhost:8053":            "",
		"http://[::ffff:127.0.0.1]:8053":   "",
		"ns1.heron.example:53":             "",
		"http://user@127.0.0.1@192.0.2.7/": "192.0.2.7",
	} {
		assert.Equal(t, host, PlainText(address, []string{"inner.example"}), address)
	}
	for listen, open := range map[string]bool{"127.0.0.1:8053": false, "[::1]:8053": false, "localhost:8053": false, ":8053": true, "0.0.0.0:8053": true, "[::]:8053": true, "192.0.2.7:8053": true, "beacon.example:8053": true, "": false} {
		assert.Equal(t, open, Open(listen), listen)
	}
}
