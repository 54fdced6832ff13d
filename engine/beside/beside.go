// Package beside runs work beside whoever begins it, until somebody waits for the end of all of it.
package beside

import "sync"

// Group is work that runs beside whoever began it. The zero value has none; it is safe for use by several goroutines.
// Unlike with a [sync.WaitGroup], work may still be begun while somebody waits: the stop that somebody asks for while
// the service shuts down is such work.
type Group struct {
	mu      sync.Mutex // guards what follows
	running int
	ended   chan struct{} // closed when nothing runs any longer; nil: nobody waits yet
}

// Go runs work beside the caller. Once all has ended that was waited for, nobody is there to wait for more: then the
// work is done before Go returns.
func (g *Group) Go(work func()) {
	g.mu.Lock()
	over := g.ended != nil && g.running == 0
	if !over {
		g.running++
	}
	g.mu.Unlock()
	if over {
		work()
		return
	}
	go func() {
		defer g.leave()
		work()
	}()
}

func (g *Group) leave() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.running--
	if g.ended != nil && g.running == 0 {
		close(g.ended)
	}
}

// Wait waits until nothing runs any longer. What is begun after that is done by whoever begins it.
func (g *Group) Wait() {
	g.mu.Lock()
	if g.ended == nil {
		g.ended = make(chan struct{})
		if g.running == 0 {
			close(g.ended)
		}
	}
	ended := g.ended
	g.mu.Unlock()
	<-ended
}
