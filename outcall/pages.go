package outcall

import (
	"context"
	"fmt"
	"time"
)

// A list is read page by page up to these bounds: a list of other people's making may lead back to an earlier page, or never end.
const (
	mostPages    = 50_000
	mostPageTime = 30 * time.Minute
)

// Pages reads a list, from the page at the zero cursor to the one after which there is none. read returns the cursor of the next
// page, or the zero value. Pages returns an error of kind Unavailable where a cursor comes again, and where the list has too many pages
// or takes too long.
func Pages[C ~string](ctx context.Context, read func(ctx context.Context, cursor C) (next C, err error)) error {
	ctx, cancel := context.WithTimeout(ctx, mostPageTime)
	defer cancel()
	seen := map[C]bool{}
	for cursor := C(""); len(seen) < mostPages; {
		next, err := read(ctx, cursor)
		if err != nil || next == "" {
			return err
		}
		seen[cursor] = true
		if seen[next] {
			return endless(fmt.Sprintf("its pages go in a circle: page %q comes again after %d pages", next, len(seen)))
		}
		cursor = next
	}
	return endless(fmt.Sprintf("it has more than %d pages", mostPages))
}

func endless(why string) error {
	return &Error{Kind: Unavailable, Outcome: NotDone, Asked: "a list", Said: why}
}
