package run

import "sync"

// feed passes the output of a task from the goroutine that reads it to the goroutine that takes it.
type feed struct {
	mu     sync.Mutex // guards the fields below
	change sync.Cond
	ready  []byte // read and not taken
	taken  []byte // with the taker
	ended  bool
}

// mostFed is the number of waiting bytes from which reading stops. A terminal gives about 4 KiB at a time. Larger
// pieces cost less to take, until they no longer fit into a processor's cache.
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

// next waits for output and returns all of it. The bytes are valid until the next call. After the end it returns
// nil.
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
