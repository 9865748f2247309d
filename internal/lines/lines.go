// Package lines passes lines of a log on to the trail of the request that they are about.
package lines

import (
	"context"
	"log/slog"
	"sync/atomic"

	"github.com/wicketway/wicketway/exchange"
)

// A Taker is kept by a request ([exchange.Keep]) whose lines are wanted.
type Taker interface {
	// TakeLine takes a line, with its attributes as text. It must be safe for concurrent use.
	TakeLine(ctx context.Context, level slog.Level, message string, values []string)
}

var wanted atomic.Bool

// Want has takers asked from now on, in the whole process: until then a line costs nothing.
func Want() { wanted.Store(true) }

// TakerOf is the taker of a request; nil where nobody wants its lines.
func TakerOf(ctx context.Context) Taker {
	if !wanted.Load() {
		return nil
	}
	to, _ := exchange.Kept[Taker](ctx)
	return to
}

// mostValues bounds the attributes of a line that are passed on.
const mostValues = 40

// To is a handler that passes records on.
func To(to Taker) slog.Handler { return handler{to: to} }

type handler struct {
	to     Taker
	prefix string
	values []string
}

func (handler) Enabled(context.Context, slog.Level) bool { return true }

func (h handler) Handle(ctx context.Context, record slog.Record) error {
	h.values = h.values[:len(h.values):len(h.values)]
	record.Attrs(func(a slog.Attr) bool {
		h.add(h.prefix, a)
		return len(h.values) < mostValues
	})
	h.to.TakeLine(ctx, record.Level, record.Message, h.values)
	return nil
}

func (h *handler) add(prefix string, a slog.Attr) {
	v := a.Value.Resolve()
	if v.Kind() == slog.KindGroup {
		if a.Key != "" {
			prefix += a.Key + "."
		}
		for _, one := range v.Group() {
			h.add(prefix, one)
		}
		return
	}
	if a.Key != "" && len(h.values) < mostValues {
		h.values = append(h.values, prefix+a.Key+"="+v.String())
	}
}

func (h handler) WithAttrs(attrs []slog.Attr) slog.Handler {
	h.values = h.values[:len(h.values):len(h.values)]
	for _, a := range attrs {
		h.add(h.prefix, a)
	}
	return h
}

func (h handler) WithGroup(name string) slog.Handler {
	if name != "" {
		h.prefix += name + "."
	}
	return h
}
