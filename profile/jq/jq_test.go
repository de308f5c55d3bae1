package jq_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/profile/jq"
	"beacon/profile/jq/jqtest"
)

func run(t *testing.T, p *jq.Pool, expression string, input any) (string, error) {
	t.Helper()
	got, err := p.Run(context.Background(), expression, input, []string{"$status"}, []any{200})
	return fmt.Sprintf("%s", got), err
}

func TestResults(t *testing.T) {
	p := jqtest.Pool(t)
	for _, c := range []struct{ expression, want string }{
		{".a", "[1]"},
		{".b[] | select(. > 1)", "[2 3]"},
		{"empty", "[]"},
		{"$status", "[200]"},
		{"{x: .a, y: ([.b[] | . * 2])}", `[{"x":1,"y":[2,4,6]}]`},
		{`env | length`, "[0]"},
		{`halt`, "[]"},
	} {
		got, err := run(t, p, c.expression, map[string]any{"a": 1, "b": []int{1, 2, 3}})
		require.NoError(t, err, c.expression)
		assert.Equal(t, c.want, got, c.expression)
	}
	_, err := run(t, p, ".a.b", map[string]any{"a": 1})
	assert.ErrorContains(t, err, "expected an object")
}

// Whatever an expression does, it ends within its time and memory, and the next one is answered.
func TestBounds(t *testing.T) {
	p := jqtest.Pool(t)
	for _, expression := range []string{
		`"x" * 1e8 | split("")`,
		`[range(1e9)]`,
		`reduce range(60) as $i ("x"; . + .)`,
		`[limit(1e9; repeat("xxxxxxxxxxxxxxxxxxxxxxxx"))]`,
		`[., .] | last(repeat([., .]))`,
		`def f: f; f`,
		`def f: 1 + f; f`,
		`last(range(1e12))`,
		`[splits("a"; "b")] | until(false; . + .)`,
	} {
		start := time.Now()
		_, err := run(t, p, expression, "x")
		assert.Error(t, err, expression)
		assert.Less(t, time.Since(start), 6*time.Second, expression)
		got, err := run(t, p, ".", "still here")
		require.NoError(t, err, expression)
		assert.Equal(t, `["still here"]`, got)
	}
}

func TestManyAtOnce(t *testing.T) {
	p := jqtest.Pool(t)
	var group sync.WaitGroup
	for i := range 40 {
		group.Go(func() {
			got, err := p.Run(context.Background(), ". + 1", i, nil, nil)
			assert.NoError(t, err)
			assert.Equal(t, fmt.Sprintf("[%d]", i+1), fmt.Sprintf("%s", got))
		})
	}
	group.Wait()
}

func TestCancelled(t *testing.T) {
	p := jqtest.Pool(t)
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	_, err := p.Run(ctx, "last(range(1e12))", nil, nil, nil)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	p.Close()
	_, err = p.Run(context.Background(), ".", 1, nil, nil)
	assert.Error(t, err)
}

func TestCheck(t *testing.T) {
	require.NoError(t, jq.Check(".a | $status", "$status"))
	for expression, offset := range map[string]int{".a | | .b": 5, ".a |": 4, "{a: }": 4, "nosuch": 0, ".a | $other": 0} {
		var fault *jq.Fault
		require.True(t, errors.As(jq.Check(expression, "$status"), &fault), expression)
		assert.Equal(t, offset, fault.Offset, "%s: %s", expression, fault.Message)
	}
}

func BenchmarkRun(b *testing.B) {
	p := jqtest.Pool(b)
	rows := make([]map[string]any, 20)
	for i := range rows {
		rows[i] = map[string]any{"label": fmt.Sprint("h", i), "kind": "A", "ttl": 300, "values": []string{"192.0.2.1"}}
	}
	b.ResetTimer()
	for range b.N {
		if _, err := p.Run(context.Background(), ".[] | {label, type: .kind, ttl, values}", rows, nil, nil); err != nil {
			b.Fatal(err)
		}
	}
}
