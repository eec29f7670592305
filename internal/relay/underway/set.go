// Package underway knows what is going on right now, so that it can be ended together.
package underway

import "sync"

// Set is what is under way. The zero value is empty, and it is safe for concurrent use.
type Set[T comparable] struct {
	mu  sync.Mutex // guards all
	all map[T]struct{}
}

// Add adds what began.
func (s *Set[T]) Add(one T) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = map[T]struct{}{}
	}
	s.all[one] = struct{}{}
}

// Remove removes what ended, whether or not it was there.
func (s *Set[T]) Remove(one T) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, one)
}

// Matching returns what is under way and matches. It can have ended by the time it is read.
func (s *Set[T]) Matching(match func(T) bool) (list []T) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for one := range s.all {
		if match(one) {
			list = append(list, one)
		}
	}
	return list
}
