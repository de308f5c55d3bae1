package api

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A user who added a location changes it as long as all hosts there are theirs to change: a host that another user put there is not changed by way of its location.
func TestLocationsOfOthersHosts(t *testing.T) {
	w := newWorld(t)
	petra := w.as(who{"editor", true, false})
	as := func(token, method, path, body string) int {
		admin := w.token
		defer func() { w.token = admin }()
		w.token = token
		status, _, _ := w.ask(method, Base+path, body)
		return status
	}
	require.Equal(t, http.StatusCreated, as(petra, "POST", "/locations", `{"name":"shed"}`))
	assert.Equal(t, http.StatusOK, as(petra, "PUT", "/locations/shed", `{"description":"mine"}`))
	assert.Equal(t, http.StatusCreated, as(petra, "POST", "/tokens/shed%2Fmain/renewals", `{}`))
	require.Equal(t, http.StatusCreated, as(w.token, "POST", "/hosts", `{"name":"buoy.other.example","v4":true,"location":"shed"}`))
	assert.Equal(t, http.StatusOK, as(petra, "GET", "/locations/shed", ""))
	for _, c := range [][3]string{{"PUT", "/locations/shed", `{"policy":{"silence":60}}`}, {"POST", "/locations/shed/uplinks", `{"name":"lte"}`}, {"DELETE", "/locations/shed/uplinks/main", ""}, {"POST", "/tokens/shed%2Fmain/renewals", `{}`}} {
		assert.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, as(petra, c[0], c[1], c[2]), c)
	}
}
