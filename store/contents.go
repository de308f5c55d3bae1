package store

import (
	"container/list"
	"crypto/sha256"
	"sync"

	"beacon/core/record"
)

// mostKept is how many records of revisions are kept in memory.
const mostKept = 400_000

// kept is what a revision says, with its chunks. Whatever has its digest says the same, whenever it was stored.
type kept struct {
	digest   string
	contents record.Contents
	chunks   [][]byte // digests
	ends     []int    // of each chunk, as places in the records
}

// revisionMemory keeps what was read and written last.
type revisionMemory struct {
	mu    sync.Mutex
	all   map[string]*list.Element
	order list.List // the one used last is in front
	size  int
}

func (k *revisionMemory) get(digest []byte) (*kept, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	e, ok := k.all[string(digest)]
	if !ok {
		return nil, false
	}
	k.order.MoveToFront(e)
	return e.Value.(*kept), true
}

// put keeps one. Those that were not used for the longest time make room for it; a very large one is not kept.
func (k *revisionMemory) put(what *kept) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, there := k.all[what.digest]; there || what.contents.Len() > mostKept {
		return
	}
	if k.all == nil {
		k.all = map[string]*list.Element{}
	}
	k.all[what.digest] = k.order.PushFront(what)
	for k.size += what.contents.Len(); k.size > mostKept; {
		last := k.order.Remove(k.order.Back()).(*kept)
		delete(k.all, last.digest)
		k.size -= last.contents.Len()
	}
}

// chunked cuts contents into chunks, and returns with the bodies those that base does not have, by their places. Where base is given, only
// what is around the difference is cut anew: a chunk ends at certain names wherever it begins, so all others are the same.
func chunked(c record.Contents, base *kept) (k *kept, fresh map[int]string) {
	k, fresh = &kept{contents: c}, map[int]string{}
	var known map[string]bool
	cut := func(from, to int) {
		for _, piece := range chunksOf(c.Records()[from:to]) {
			sum := sha256.Sum256([]byte(piece.body))
			if !known[string(sum[:])] {
				fresh[len(k.chunks)] = piece.body
			}
			k.chunks, k.ends = append(k.chunks, sum[:]), append(k.ends, from+piece.end)
		}
	}
	if base == nil || len(base.chunks) == 0 {
		cut(0, c.Len())
	} else {
		known = make(map[string]bool, len(base.chunks))
		for _, digest := range base.chunks {
			known[string(digest)] = true
		}
		start, endBefore, endAfter := base.contents.Differ(c)
		first := 0 // the first chunk that is cut anew has the record before the difference
		for first+1 < len(base.ends) && base.ends[first] < start {
			first++
		}
		last := first // the last one ends behind the difference, where one ends in any case
		for last+1 < len(base.ends) && (base.ends[last] <= endBefore || !endsChunk(base.contents.Records()[base.ends[last]-1].Name)) {
			last++
		}
		from := 0
		if first > 0 {
			from = base.ends[first-1]
		}
		moved := endAfter - endBefore
		k.chunks, k.ends = append(k.chunks, base.chunks[:first]...), append(k.ends, base.ends[:first]...)
		cut(from, base.ends[last]+moved)
		for i := last + 1; i < len(base.chunks); i++ {
			k.chunks, k.ends = append(k.chunks, base.chunks[i]), append(k.ends, base.ends[i]+moved)
		}
	}
	whole := sha256.New()
	for _, digest := range k.chunks {
		_, _ = whole.Write(digest)
	}
	k.digest = string(whole.Sum(nil))
	return k, fresh
}
