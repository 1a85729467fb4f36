package sieve

// seenTable remembers what was said before: the hash of a problem and the
// number it was given. It is an open hash table (linear probing, a half full at
// most) because one look has to answer and to remember, for each problem of a
// log that may have a million.
//
// What is said twice is said near by: by jobs side by side, or about a header
// that several files include. So a table that is full is begun anew, and its
// size in memory stays the same however long the log is.
type seenTable struct {
	entries []seenEntry // a power of two of them
	used    int
}

// maxSeen is how many problems are remembered at most (4 MiB for all).
const maxSeen = 1 << 17

type seenEntry struct {
	hash uint64
	seq  int // 0 in an empty entry
}

// put gives the number of a hash that was there before; else it remembers seq
// for it and gives 0.
func (t *seenTable) put(hash uint64, seq int) (before int) {
	if 2*t.used >= len(t.entries) {
		if t.used < maxSeen {
			t.grow()
		} else {
			t.clear()
		}
	}
	e := t.find(hash)
	if e.seq != 0 {
		return e.seq
	}
	*e = seenEntry{hash, seq}
	t.used++
	return 0
}

// find gives the entry of a hash, or the empty one where it belongs.
func (t *seenTable) find(hash uint64) *seenEntry {
	mask := uint64(len(t.entries) - 1)
	for i := hash & mask; ; i = (i + 1) & mask {
		if e := &t.entries[i]; e.seq == 0 || e.hash == hash {
			return e
		}
	}
}

func (t *seenTable) grow() {
	old := t.entries
	t.entries = make([]seenEntry, max(64, 4*len(old)))
	for _, e := range old {
		if e.seq != 0 {
			*t.find(e.hash) = e
		}
	}
}

func (t *seenTable) clear() {
	clear(t.entries)
	t.used = 0
}
