// Package events is the hub that tells listeners which part of the register has
// changed. A topic is a word; what changed is read again from where it is kept,
// so that a missed topic costs a delay and never a wrong picture.
package events

import (
	"sync"
)

// Hub tells listeners which part of the register has changed.
type Hub struct {
	mu        sync.Mutex // guards what follows
	listeners map[chan string]scope
	closed    bool
}

// scope is what a listener is told of.
type scope int

const (
	everything scope = iota
	here             // but for what happened elsewhere and is only repeated here
)

// New returns a hub without listeners.
func New() *Hub { return &Hub{listeners: map[chan string]scope{}} }

// Subscribe returns a channel of topics: servers, agents, rules, secrets, people.
// A listener that falls behind misses topics, but never the last one of a kind
// for long: topics are told again with the next change. stop ends it.
func (h *Hub) Subscribe() (topics <-chan string, stop func()) { return h.subscribe(everything) }

// SubscribeHere is Subscribe without what Repeat tells.
func (h *Hub) SubscribeHere() (topics <-chan string, stop func()) { return h.subscribe(here) }

func (h *Hub) subscribe(to scope) (topics <-chan string, stop func()) {
	c := make(chan string, 64)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(c)
		return c, func() {}
	}
	h.listeners[c] = to
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, ok := h.listeners[c]; ok {
			delete(h.listeners, c)
			close(c)
		}
	}
}

// Publish tells every listener of a topic. It never waits.
func (h *Hub) Publish(topic string) { h.tell(topic, here) }

// Repeat tells of a topic that another service has told of already, as Publish does.
func (h *Hub) Repeat(topic string) { h.tell(topic, everything) }

// tell tells the listeners of a topic whose scope goes no further than one.
func (h *Hub) tell(topic string, widest scope) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, to := range h.listeners {
		if to > widest {
			continue
		}
		select {
		case c <- topic:
		default:
		}
	}
}

// Close ends every listener.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.listeners {
		close(c)
	}
	clear(h.listeners)
}
