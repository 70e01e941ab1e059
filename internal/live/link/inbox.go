package link

import "sync"

// task is something that a lane does between exchanges; its connection is for it to use.
type task struct {
	do      func(*connection)
	command bool // it makes exchanges, so that polls have their turn after it
}

// inbox hands tasks to the runner without ever blocking the giver.
type inbox struct {
	mu       sync.Mutex
	changes  []task
	commands []task
	signal   chan struct{} // wakes one lane
}

// put hands in a change, which goes before commands.
func (b *inbox) put(do func(*connection)) {
	b.mu.Lock()
	b.changes = append(b.changes, task{do, false})
	b.mu.Unlock()
	b.wake()
}

// command hands in what makes exchanges.
func (b *inbox) command(do func(*connection)) {
	b.mu.Lock()
	b.commands = append(b.commands, task{do, true})
	b.mu.Unlock()
	b.wake()
}

func (b *inbox) wake() {
	select {
	case b.signal <- struct{}{}:
	default:
	}
}

// take returns the change that waits longest or, where they are wanted and there is none, the command.
func (b *inbox) take(commands bool) (task, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := &b.changes
	if len(*list) == 0 && commands {
		list = &b.commands
	}
	if len(*list) == 0 {
		return task{}, false
	}
	t := (*list)[0]
	(*list)[0] = task{}
	*list = (*list)[1:]
	return t, true
}

// empty reports whether nothing waits.
func (b *inbox) empty() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.changes)+len(b.commands) == 0
}
