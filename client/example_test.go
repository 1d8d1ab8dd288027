package client_test

import (
	"context"
	"errors"
	"fmt"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/guard"
	"oakenlatch/wire"
)

// A change from its beginning to its end: opened, staged, looked at, committed on hold, confirmed.
func Example() {
	// c, err := client.New(client.Options{Server: "https://latch.example", Token: token, Pin: pin})
	c, end := connected()
	defer end()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()

	change, err := c.OpenChange(ctx, wire.NewChange{Title: "Quay office moved", Ticket: "TF-204"})
	if err != nil {
		fmt.Println(err)
		return
	}
	value := "Quay office, ext. 14"
	if _, err := c.StageEdit(ctx, change.Number, wire.NewEdit{
		Device: "saltern-quay", Op: "put", Path: "/system/contact", Value: &value,
	}); err != nil {
		fmt.Println(err)
		return
	}
	preview, err := c.PreviewChange(ctx, change.Number, client.PreviewChangeQuery{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println("ready:", preview.Ready)

	// In effect on hold: unless it is confirmed within ten minutes, it reverts by itself.
	if _, err := c.CommitChange(ctx, change.Number, wire.NewCommit{
		HoldSeconds: 600, Preview: preview.Digest,
	}); err != nil {
		fmt.Println(err)
		return
	}
	change, err = c.AwaitChange(ctx, change.Number, func(c wire.Change) bool {
		return c.Commit.Phase == guard.Awaiting || c.Commit.Phase == guard.Done
	})
	fmt.Println("on hold:", change.State, err)

	if _, err := c.ConfirmChange(ctx, change.Number, wire.Confirm{}); err != nil {
		fmt.Println(err)
		return
	}
	change, err = c.AwaitChange(ctx, change.Number, func(c wire.Change) bool { return c.Commit.Phase == guard.Done })
	fmt.Println("confirmed:", change.State, err)
	// Output:
	// ready: true
	// on hold: holding <nil>
	// confirmed: confirmed <nil>
}

// What the service refuses says what is wrong and what to do next.
func ExampleIs() {
	c, end := connected()
	defer end()
	_, err := c.GetChange(context.Background(), 12)
	fmt.Println(client.Is(err, "not-found"))
	var p *wire.Problem
	if errors.As(err, &p) {
		fmt.Println(p.Detail)
		for _, step := range p.Next {
			fmt.Printf("%s (%s)\n", step.Text, step.Action)
		}
	}
	// Output:
	// true
	// there is no change 12
	// list yours (list-changes)
}

// What happens is told as it is written. Whoever goes on from the last event misses nothing.
func ExampleClient_Events() {
	c, end := connected()
	defer end()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	go func() {
		time.Sleep(100 * time.Millisecond)
		_, _ = c.OpenChange(ctx, wire.NewChange{Title: "Quay office moved"})
	}()
	for e, err := range c.Events(ctx, "") {
		if err != nil {
			fmt.Println(err)
			return
		}
		var entry wire.Entry
		if err := e.Read(&entry); err == nil && e.Kind == "entry" {
			fmt.Println(entry.Actor, entry.Action, entry.Note)
			return
		}
	}
	// Output: wren change.open Quay office moved
}
