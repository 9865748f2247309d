package accesslog

import (
	"context"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
)

// laps are the times that the steps of one request took, without the steps inside them.
type laps struct {
	mu    sync.Mutex
	open  []lap
	worst lap
}

type lap struct {
	name          string
	began         time.Time
	inside, alone time.Duration
}

// stopwatch takes the times.
type stopwatch struct{}

func (stopwatch) StepBegins(ctx context.Context, step exchange.Step) {
	l, ok := exchange.Kept[*laps](ctx)
	if !ok {
		return // what is further out than the log
	}
	name := step.Kind.String()
	if step.Name != "" {
		name += " " + step.Name
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open = append(l.open, lap{name: name, began: time.Now()})
}

func (stopwatch) StepEnds(ctx context.Context, _ exchange.Step, _ error) {
	l, ok := exchange.Kept[*laps](ctx)
	if !ok {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	last := len(l.open) - 1
	if last < 0 {
		return // it began before the log did
	}
	ended := l.open[last]
	l.open = l.open[:last]
	took := time.Since(ended.began)
	if ended.alone = took - ended.inside; ended.alone > l.worst.alone {
		l.worst = ended
	}
	if last > 0 {
		l.open[last-1].inside += took
	}
}

// slowest names the step that took the most time by itself, of those that have ended or go on.
func (l *laps) slowest() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	worst := l.worst
	for _, one := range l.open {
		if one.alone = time.Since(one.began) - one.inside; one.alone > worst.alone {
			worst = one
		}
	}
	if worst.name == "" {
		return ""
	}
	return worst.name + " " + worst.alone.Round(10*time.Microsecond).String()
}
