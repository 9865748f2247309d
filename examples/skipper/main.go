// Skipper is a program for the terminal that books passages on the canal, by the client that was written of its contract:
//
//	skipper list
//	skipper book bell up 2027-05-04T09:30:00Z
//	skipper change 61 4
//	skipper cancel 61
//	skipper levels bell 3
//
// The address is in CANAL, else http://127.0.0.1:8080; who calls in PLATE and PIN.
package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"time"

	"github.com/wicketway/wicketway/client"
	canal "github.com/wicketway/wicketway/examples/canal/client"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	s := skipper{cmp.Or(os.Getenv("CANAL"), "http://127.0.0.1:8080"), os.Getenv("PLATE"), os.Getenv("PIN"), os.Stdout}
	if err := s.run(ctx, os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "skipper:", told(err))
		os.Exit(1)
	}
}

// A skipper is who calls, and where.
type skipper struct {
	canal, plate, pin string
	out               io.Writer
}

// connect makes the client. It signs in once a token is needed, and again where that has expired.
func (s skipper) connect() (*canal.Client, error) {
	open, err := canal.New(s.canal, client.Settings{})
	if err != nil {
		return nil, err
	}
	return canal.New(s.canal, client.Settings{
		Credentials: client.Bearer(func(ctx context.Context) (string, error) {
			token, err := open.TokensSignIn(ctx, canal.TokensSignInInput{Body: canal.Login{Vessel: s.plate, PIN: s.pin}})
			return token.AccessToken, err
		}),
		Ending: func(e client.Ending) {
			fmt.Fprintf(s.out, "%s ends on %s\n", e.Operation, e.Sunset.Format(time.DateOnly))
		},
	})
}

var errUsage = errors.New("want list, book LOCK up|down TIME, change PASSAGE CREW, cancel PASSAGE, or levels LOCK COUNT")

func (s skipper) run(ctx context.Context, args []string) error {
	c, err := s.connect()
	if err != nil {
		return err
	}
	switch {
	case len(args) == 1 && args[0] == "list":
		return s.list(ctx, c)
	case len(args) == 4 && args[0] == "book":
		slot, err := time.Parse(time.RFC3339, args[3])
		if err != nil {
			return fmt.Errorf("%s is no time such as 2027-05-04T09:30:00Z", args[3])
		}
		return s.book(ctx, c, canal.NewPassage{Lock: args[1], Direction: canal.PassageDirection(args[2]), Slot: slot})
	case len(args) == 3 && args[0] == "change":
		id, crew, err := numbers(args[1], args[2])
		if err != nil {
			return err
		}
		return s.change(ctx, c, id, crew)
	case len(args) == 2 && args[0] == "cancel":
		id, _, err := numbers(args[1], "0")
		if err != nil {
			return err
		}
		return c.PassagesCancel(ctx, canal.PassagesCancelInput{Passage: id})
	case len(args) == 3 && args[0] == "levels":
		count, _, err := numbers(args[2], "0")
		if err != nil {
			return err
		}
		return s.levels(ctx, c, args[1], count)
	}
	return errUsage
}

func numbers(a, b string) (x, y int64, err error) {
	x, errX := strconv.ParseInt(a, 10, 64)
	y, errY := strconv.ParseInt(b, 10, 64)
	if errors.Join(errX, errY) != nil {
		return 0, 0, errUsage
	}
	return x, y, nil
}

func (s skipper) list(ctx context.Context, c *canal.Client) error {
	for p, err := range c.PassagesListAll(ctx, canal.PassagesListInput{Limit: 2}) {
		if err != nil {
			return err
		}
		s.show(p)
	}
	return nil
}

func (s skipper) book(ctx context.Context, c *canal.Client, p canal.NewPassage) error {
	booked, err := c.PassagesBook(ctx, canal.PassagesBookInput{Body: p})
	if errors.Is(err, canal.ErrSlotTaken) {
		return fmt.Errorf("%w: try half an hour later", err)
	}
	if err == nil {
		s.show(booked.Value)
	}
	return err
}

// change changes the crew of a passage, unless somebody else has changed it meanwhile.
func (s skipper) change(ctx context.Context, c *canal.Client, id, crew int64) error {
	before, err := c.PassagesFind(ctx, canal.PassagesFindInput{Passage: id})
	if err != nil {
		return err
	}
	after, err := c.PassagesChange(ctx, canal.PassagesChangeInput{
		Passage: id, IfMatch: before.Tag(), Body: canal.PassagesChangePatch{Crew: schema.Some(crew)},
	})
	if err == nil {
		s.show(after.Value)
	}
	return err
}

func (s skipper) levels(ctx context.Context, c *canal.Client, lock string, count int64) error {
	for level, err := range c.LocksLevels(ctx, canal.LocksLevelsInput{Lock: lock, Back: 3, Count: count}) {
		if err != nil {
			return err
		}
		fmt.Fprintf(s.out, "%s  %.3f m\n", level.Read.Format(time.TimeOnly), level.Metres)
	}
	return nil
}

func (s skipper) show(p canal.Passage) {
	fmt.Fprintf(s.out, "%4d  %s  %-8s %-5s crew %d\n", p.Passage, p.Slot.Format("2006-01-02 15:04"), p.Lock, p.Direction, p.Crew)
}

// told is an error as a person reads it: of a problem its title, its detail, and each fault at its place.
func told(err error) string {
	p := problem.In(err)
	if p == nil || len(p.Items()) == 0 {
		return err.Error()
	}
	text := err.Error()
	for _, item := range p.Items() {
		place := item.In + " " + item.Name
		if item.Pointer != nil {
			place = item.In + " " + *item.Pointer
		}
		text += "\n  " + place + " " + item.Detail
	}
	return text
}
