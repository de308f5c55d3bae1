package jq

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/itchyny/gojq"
)

// request is what a worker is asked, and response what it says. Both travel as JSON behind their length.
type request struct {
	Expression string            `json:"expression"`
	Names      []string          `json:"names"`
	Values     []json.RawMessage `json:"values"`
	Input      json.RawMessage   `json:"input"`
	Millis     int64             `json:"millis"` // most time
}

type response struct {
	Results []json.RawMessage `json:"results"`
	Problem string            `json:"problem"`
}

// Work is the whole life of a worker process: it bounds its own memory to so many octets, then answers what comes in on
// standard input until that ends. It returns the exit code.
func Work(memory uint64) int {
	debug.SetMemoryLimit(int64(memory / 2)) // collect in time, before the limit that ends the process
	// Data counts what the process has written to or may; address space alone, which the runtime reserves, does not.
	if err := syscall.Setrlimit(syscall.RLIMIT_DATA, &syscall.Rlimit{Cur: memory, Max: memory}); err != nil {
		fmt.Fprintln(os.Stderr, "the memory cannot be bounded:", err)
		return 1
	}
	if err := serve(os.Stdin, os.Stdout); err != io.EOF {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

// mostKept is how many compiled expressions a worker keeps.
const mostKept = 256

// serve answers until reading or writing fails; io.EOF says that nobody asks any more.
func serve(in io.Reader, out io.Writer) error {
	reader, writer := bufio.NewReaderSize(in, 64<<10), bufio.NewWriterSize(out, 64<<10)
	kept := map[string]*gojq.Code{}
	for {
		var r request
		if err := receive(reader, &r); err != nil {
			return err
		}
		if err := send(writer, evaluate(r, kept)); err != nil {
			return err
		}
	}
}

func evaluate(r request, kept map[string]*gojq.Code) response {
	key := strings.Join(append([]string{r.Expression}, r.Names...), "\x00")
	code := kept[key]
	if code == nil {
		var err error
		if code, err = compile(r.Expression, r.Names); err != nil {
			return response{Problem: err.Error()}
		}
		if len(kept) >= mostKept {
			clear(kept)
		}
		kept[key] = code
	}
	var input any
	values := make([]any, len(r.Values))
	if err := json.Unmarshal(r.Input, &input); err != nil {
		return response{Problem: "the input is not JSON: " + err.Error()}
	}
	for i, v := range r.Values {
		if err := json.Unmarshal(v, &values[i]); err != nil {
			return response{Problem: "a variable is not JSON: " + err.Error()}
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Duration(r.Millis)*time.Millisecond)
	defer cancel()
	results, size := []json.RawMessage{}, 0
	for iter := code.RunWithContext(ctx, input, values...); ; {
		v, more := iter.Next()
		if !more {
			return response{Results: results}
		}
		if err, bad := v.(error); bad {
			if ctx.Err() != nil {
				return response{Problem: "it took too long"}
			}
			if halt, ok := err.(*gojq.HaltError); ok && halt.Value() == nil {
				return response{Results: results}
			}
			return response{Problem: err.Error()}
		}
		text, err := gojq.Marshal(v)
		if err != nil {
			return response{Problem: err.Error()}
		}
		if size += len(text); size > maxOutput {
			return response{Problem: "its results are too large"}
		}
		results = append(results, slices.Clip(text))
	}
}

func send(w *bufio.Writer, message any) error {
	text, err := json.Marshal(message)
	if err != nil {
		return err
	}
	if err := binary.Write(w, binary.BigEndian, uint32(len(text))); err != nil {
		return err
	}
	if _, err := w.Write(text); err != nil {
		return err
	}
	return w.Flush()
}

func receive(r io.Reader, into any) error {
	var size uint32
	if err := binary.Read(r, binary.BigEndian, &size); err != nil {
		return err
	}
	if size > maxInput+maxOutput {
		return fmt.Errorf("a message of %d octets is too large", size)
	}
	text := make([]byte, size)
	if _, err := io.ReadFull(r, text); err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}
