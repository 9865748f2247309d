package client

import (
	"context"
	"fmt"
	"iter"
	"net/url"
)

// Pages sends an input, and gives the answer and then those that follow it, as long as an answer has a Link with the
// relation next (RFC 8288). One that leads to another host is an error.
func Pages[In, Out any](ctx context.Context, c *Client, o *Operation[In, Out], in In) iter.Seq2[Out, error] {
	return func(yield func(Out, error) bool) {
		var none Out
		s, err := o.sending(c, in)
		if err != nil {
			yield(none, err)
			return
		}
		for seen := map[string]bool{}; ; {
			seen[s.target] = true
			resp, err := s.send(ctx)
			if err != nil {
				yield(none, err)
				return
			}
			var out Out
			err = s.read(resp, &out)
			resp.Body.Close()
			if !yield(out, err) || err != nil {
				return
			}
			next := linked(resp, "next")
			if next == "" {
				return
			}
			to, err := url.Parse(next)
			if err != nil || to.Host != c.at.Host || to.Scheme != c.at.Scheme || seen[next] {
				yield(none, s.named(fmt.Errorf("the next page is said to be at %s, which is another host, or a page that was read", next)))
				return
			}
			s.target = next
		}
	}
}

// Each gives the items of all pages, one by one: items says what they are in a page.
func Each[Page, T any](pages iter.Seq2[Page, error], items func(Page) []T) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for page, err := range pages {
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			for _, one := range items(page) {
				if !yield(one, nil) {
					return
				}
			}
		}
	}
}
