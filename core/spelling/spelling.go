// Package spelling finds words that were probably meant: names of keys, accounts and nameservers differ in one
// character from each other, and people type them.
package spelling

// Distance counts the edits (insert, delete, replace, swap of two neighbours) that make a into b, up to most; beyond
// that it gives most+1.
func Distance(a, b string, most int) int {
	if d := len(a) - len(b); d > most || -d > most {
		return most + 1
	}
	before, row, next := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		next[0] = i
		least := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			d := min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d = min(d, before[j-2]+1)
			}
			next[j] = d
			least = min(least, d)
		}
		if least > most {
			return most + 1
		}
		before, row, next = row, next, before
	}
	return min(row[len(b)], most+1)
}

// Closest returns the candidate nearest to word, if one lies within two edits.
func Closest(word string, candidates []string) (string, bool) {
	best, found := 3, ""
	for _, c := range candidates {
		if d := Distance(word, c, 2); d < best {
			best, found = d, c
		}
	}
	return found, best <= 2
}
