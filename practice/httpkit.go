package practice

import (
	"encoding/json"
	"net/http"
)

// problem is what a site answers when it refuses.
type problem struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

func answer(rw http.ResponseWriter, status int, body any) {
	answerAs(rw, "application/json", status, body)
}

func answerAs(rw http.ResponseWriter, kind string, status int, body any) {
	rw.Header().Set("Content-Type", kind)
	rw.WriteHeader(status)
	_ = json.NewEncoder(rw).Encode(body)
}

func refuse(rw http.ResponseWriter, status int, code, message string) {
	answer(rw, status, map[string]problem{"error": {code, message}})
}

// read takes a JSON body of at most a few megabytes; it answers itself where that fails.
func read(rw http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 8<<20)).Decode(into); err != nil {
		refuse(rw, http.StatusBadRequest, "unreadable", "the body is not the JSON expected here: "+err.Error())
		return false
	}
	return true
}

// changed is called with the lock held after anything that nameservers answer by.
func (w *World) changed() {
	w.rebuild()
	w.save()
}
