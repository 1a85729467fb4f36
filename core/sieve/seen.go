package sieve

// seenTable remembers reported problems: their hashes and numbers. It is an open
// hash table (linear probing, at most half full), because each of a million problems
// of a log needs one lookup that also inserts.
// Repetitions are close together: jobs side by side, or a header that several files
// include. So the table has two halves. When the newer one is full, the older one is
// forgotten, which bounds the memory whatever the length of the log.
type seenTable struct {
	newer, older []seenEntry // a power of two of them, or none
	used         int         // of newer
}

// maxSeen is the number of problems in a half (4 MiB).
const maxSeen = 1 << 17

type seenEntry struct {
	hash uint64
	seq  int // 0 in an empty entry
}

// put returns the number stored for a hash. If there is none, it stores seq and
// returns 0.
func (t *seenTable) put(hash uint64, seq int) (before int) {
	if 2*t.used >= len(t.newer) {
		t.grow()
	}
	e := entryOf(t.newer, hash)
	if e.seq != 0 {
		return e.seq
	}
	if t.older != nil {
		if old := entryOf(t.older, hash); old.seq != 0 {
			seq, before = old.seq, old.seq
		}
	}
	*e = seenEntry{hash, seq}
	t.used++
	return before
}

// entryOf returns the entry of a hash, or the empty one where it belongs.
func entryOf(entries []seenEntry, hash uint64) *seenEntry {
	mask := uint64(len(entries) - 1)
	for i := hash & mask; ; i = (i + 1) & mask {
		if e := &entries[i]; e.seq == 0 || e.hash == hash {
			return e
		}
	}
}

func (t *seenTable) grow() {
	if t.used >= maxSeen {
		t.newer, t.older, t.used = t.older, t.newer, 0
		if t.newer == nil {
			t.newer = make([]seenEntry, len(t.older))
		}
		clear(t.newer)
		return
	}
	old := t.newer
	t.newer = make([]seenEntry, max(64, 4*len(old)))
	for _, e := range old {
		if e.seq != 0 {
			*entryOf(t.newer, e.hash) = e
		}
	}
}

func (t *seenTable) clear() {
	clear(t.newer)
	t.older, t.used = nil, 0
}
