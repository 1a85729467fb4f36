package run

import (
	"slices"
	"sync"
)

// slots is the budget of what may run at once. A task takes one slot to run, in the order in
// which they were started. A client of the jobserver takes more while nobody waits. It is safe for
// concurrent use.
type slots struct {
	limit func() int

	mu    sync.Mutex // guards the fields below
	used  int
	queue []*inQueue // by their numbers
}

// inQueue is one that waits for a slot.
type inQueue struct {
	number int
	served chan struct{} // closed when it has its slot
}

// join puts the run of a number into the queue. Whoever joins must call take or withdraw.
func (s *slots) join(number int) *inQueue {
	mine := &inQueue{number, make(chan struct{})}
	s.mu.Lock()
	defer s.mu.Unlock()
	at, _ := slices.BinarySearchFunc(s.queue, number, func(q *inQueue, n int) int { return q.number - n })
	s.queue = slices.Insert(s.queue, at, mine)
	s.serve()
	return mine
}

// take waits for the slot of one that has joined. It returns false if halt is closed before.
// When hurry is closed it takes one beyond the budget.
func (s *slots) take(mine *inQueue, halt, hurry <-chan struct{}) bool {
	select {
	case <-mine.served:
		return true
	case <-hurry:
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.leave(mine) {
			s.used++
		}
		return true
	case <-halt:
		s.withdraw(mine)
		return false
	}
}

// withdraw takes one out of the queue, or gives its slot back.
func (s *slots) withdraw(mine *inQueue) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.leave(mine) {
		s.used--
		s.serve()
	}
}

// leave takes one out of the queue. It returns false for one that has its slot. The lock is
// held.
func (s *slots) leave(mine *inQueue) bool {
	i := slices.Index(s.queue, mine)
	if i < 0 {
		return false
	}
	s.queue = slices.Delete(s.queue, i, i+1)
	return true
}

// spare takes up to n slots if nobody waits for one, and returns how many.
func (s *slots) spare(n int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.queue) > 0 {
		return 0
	}
	n = max(0, min(n, s.limit()-s.used))
	s.used += n
	return n
}

// wanted reports how many wait for a slot.
func (s *slots) wanted() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.queue)
}

// give gives slots back.
func (s *slots) give(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used -= n
	s.serve()
}

// serve hands free slots to those who wait. The lock is held.
func (s *slots) serve() {
	for len(s.queue) > 0 && s.used < s.limit() {
		s.used++
		close(s.queue[0].served)
		s.queue = s.queue[1:]
	}
}
