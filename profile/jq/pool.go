package jq

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"runtime"
	"sync"
	"time"
)

// Pool runs expressions in worker processes. It is safe for concurrent use; workers are started when they are needed,
// and Close ends them.
type Pool struct {
	command []string
	time    time.Duration
	slots   chan struct{}
	mu      sync.Mutex
	idle    []*worker
	closed  bool
}

// ErrDied means that a worker ended over an expression: it wanted more memory than it may have, or more time.
var ErrDied = errors.New("it took more memory or time than an expression may have")

// NewPool makes a pool whose workers are started with the given command, each of which must end up in Work. No
// evaluation takes longer than most.
func NewPool(command []string, most time.Duration) *Pool {
	return &Pool{command: command, time: most, slots: make(chan struct{}, max(2, runtime.GOMAXPROCS(0)))}
}

// Close ends the workers. No evaluation may be under way.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	for _, w := range p.idle {
		w.end()
	}
	p.idle = nil
}

// Run evaluates an expression on input, with variables by their names with the dollar sign, in the given order. It gives
// every result.
func (p *Pool) Run(ctx context.Context, expression string, input any, names []string, values []any) ([]json.RawMessage, error) {
	r := request{Expression: expression, Names: names, Millis: p.time.Milliseconds()}
	var err error
	if r.Input, err = asJSON(input); err != nil {
		return nil, err
	}
	if len(r.Input) > maxInput {
		return nil, fmt.Errorf("an input of %d octets is too large", len(r.Input))
	}
	for _, v := range values {
		text, err := asJSON(v)
		if err != nil {
			return nil, err
		}
		r.Values = append(r.Values, text)
	}
	select {
	case p.slots <- struct{}{}:
		defer func() { <-p.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	w, err := p.take()
	if err != nil {
		return nil, err
	}
	answer, err := w.ask(ctx, r, p.time+time.Second)
	if err != nil {
		w.end()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, ErrDied
	}
	p.give(w)
	if answer.Problem != "" {
		return nil, errors.New(answer.Problem)
	}
	return answer.Results, nil
}

// asJSON leaves alone what is JSON already.
func asJSON(v any) (json.RawMessage, error) {
	if text, ok := v.(json.RawMessage); ok {
		return text, nil
	}
	return json.Marshal(v)
}

func (p *Pool) take() (*worker, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return nil, errors.New("expressions are not evaluated any more")
	}
	if n := len(p.idle); n > 0 {
		w := p.idle[n-1]
		p.idle = p.idle[:n-1]
		return w, nil
	}
	return start(p.command)
}

func (p *Pool) give(w *worker) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		w.end()
		return
	}
	p.idle = append(p.idle, w)
}

// worker is one process.
type worker struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	to  *bufio.Writer
	out *bufio.Reader
}

func start(command []string) (*worker, error) {
	w := &worker{cmd: exec.Command(command[0], command[1:]...)}
	w.cmd.Env = []string{} // nothing of ours is for expressions to read
	var out io.ReadCloser
	var err error
	if w.in, err = w.cmd.StdinPipe(); err == nil {
		out, err = w.cmd.StdoutPipe()
	}
	if err == nil {
		err = w.cmd.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("starting a worker for expressions: %w", err)
	}
	w.to, w.out = bufio.NewWriterSize(w.in, 64<<10), bufio.NewReaderSize(out, 64<<10)
	return w, nil
}

// ask puts one question. After an error the worker is of no further use.
func (w *worker) ask(ctx context.Context, r request, most time.Duration) (answer response, err error) {
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = w.cmd.Process.Kill() })
	if err = send(w.to, r); err == nil {
		err = receive(w.out, &answer)
	}
	if !stop() && err == nil {
		err = ctx.Err()
	}
	return answer, err
}

// end ends the process and waits for it.
func (w *worker) end() {
	_ = w.in.Close()
	_ = w.cmd.Process.Kill()
	_ = w.cmd.Wait()
}
