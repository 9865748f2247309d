package accesslog

import (
	"context"
	"encoding/hex"
	"log/slog"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/lines"
)

// InContext wraps a handler so that records with the context of a request name the request:
// its id (request), its trace and its caller are added, where the record does not have them. In development they are in the
// trail of the request as well (package observe/trail), with secrets blanked as by [Redact].
//
//	slog.SetDefault(slog.New(accesslog.InContext(slog.NewJSONHandler(os.Stderr, nil))))
func InContext(h slog.Handler) slog.Handler { return inContext{h, h, nil} }

// The attributes are next to those of the record, not in the groups that a logger has opened: so
// they are put before them, and what the logger has done since is done again.
type inContext struct {
	slog.Handler
	base slog.Handler // before any group was opened
	then []func(slog.Handler) slog.Handler
}

func (c inContext) Handle(ctx context.Context, record slog.Record) error {
	if to := lines.TakerOf(ctx); to != nil {
		h := Redact(lines.To(to))
		for _, step := range c.then {
			h = step(h)
		}
		h.Handle(ctx, record.Clone())
	}
	return c.with(ctx, record).Handle(ctx, record)
}

func (c inContext) handleClean(ctx context.Context, record slog.Record) error {
	h := c.with(ctx, record)
	if clean, ok := h.(cleanHandler); ok {
		return clean.handleClean(ctx, record)
	}
	return h.Handle(ctx, record)
}

// with is the handler for a record, with what its context says.
func (c inContext) with(ctx context.Context, record slog.Record) slog.Handler {
	attrs := contextAttrs(ctx, record)
	if attrs == nil {
		return c.Handler
	}
	h := c.base.WithAttrs(attrs)
	for _, step := range c.then {
		h = step(h)
	}
	return h
}

func (c inContext) isForPeople() bool { return isForPeople(c.Handler) }

func contextAttrs(ctx context.Context, record slog.Record) (attrs []slog.Attr) {
	add := func(name, value string) {
		if value == "" {
			return
		}
		record.Attrs(func(a slog.Attr) bool {
			if a.Key == name {
				value = ""
			}
			return value != ""
		})
		if value != "" {
			attrs = append(attrs, slog.String(name, value))
		}
	}
	add("request", exchange.Of(ctx).ID())
	if t, ok := exchange.Of(ctx).Trace(); ok {
		add("trace", hex.EncodeToString(t.ID[:]))
	}
	if caller := exchange.Of(ctx).Caller(); caller.Subject != "" {
		add("caller", caller.Subject)
		add("issuer", caller.Issuer)
	}
	return attrs
}

func (c inContext) WithAttrs(attrs []slog.Attr) slog.Handler {
	return c.after(func(h slog.Handler) slog.Handler { return h.WithAttrs(attrs) })
}

func (c inContext) WithGroup(name string) slog.Handler {
	if name == "" {
		return c
	}
	return c.after(func(h slog.Handler) slog.Handler { return h.WithGroup(name) })
}

func (c inContext) after(step func(slog.Handler) slog.Handler) slog.Handler {
	return inContext{step(c.Handler), c.base, append(c.then[:len(c.then):len(c.then)], step)}
}
