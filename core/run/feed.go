package run

import "sync"

// feed hands the output of a task from the goroutine that reads it to the one that takes it.
type feed struct {
	mu     sync.Mutex // guards the fields below
	change sync.Cond
	ready  []byte // read and not taken
	taken  []byte // with the taker
	ended  bool
}

// mostFed is how many bytes wait to be taken before reading waits, too. A terminal hands over some 4 KiB at a
// time: taken together they cost less, and what is more than the caches of a processor hold costs more.
const mostFed = 128 << 10

func newFeed() *feed {
	f := &feed{}
	f.change.L = &f.mu
	return f
}

// add appends a copy of b, when there is room. It returns false after the end.
func (f *feed) add(b []byte) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for len(f.ready) > mostFed && !f.ended {
		f.change.Wait()
	}
	if !f.ended && len(b) > 0 {
		f.ready = append(f.ready, b...)
		f.change.Broadcast()
	}
	return !f.ended
}

// next returns all that is ready, and waits for it. It is valid until the next call. After the end it
// returns nil.
func (f *feed) next() []byte {
	f.mu.Lock()
	defer f.mu.Unlock()
	for len(f.ready) == 0 {
		if f.ended {
			return nil
		}
		f.change.Wait()
	}
	f.ready, f.taken = f.taken[:0], f.ready
	f.change.Broadcast()
	return f.taken
}

// end says that nothing more is added.
func (f *feed) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ended = true
	f.change.Broadcast()
}
