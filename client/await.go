package client

import (
	"context"
	"encoding/json"
	"time"

	"oakenlatch/wire"
)

// Await follows long work until it is over, and reads what it came to into result (nil is not read). each is told how
// far it is, again and again; nil is not.
func (c *Client) Await(ctx context.Context, j wire.Job, result any, each func(wire.Job)) (wire.Job, error) {
	var err error
	for j.State == wire.JobRunning {
		if each != nil {
			each(j)
		}
		if j, err = c.GetJob(ctx, j.ID, GetJobQuery{Wait: 1}); err != nil {
			return j, err
		}
	}
	if result == nil || j.Result == nil {
		return j, nil
	}
	text, err := json.Marshal(j.Result)
	if err == nil {
		err = json.Unmarshal(text, result)
	}
	return j, err
}

// lookEvery is how often AwaitChange looks.
const lookEvery = 250 * time.Millisecond

// AwaitChange looks at a change until it is as wanted, or ctx ends.
func (c *Client) AwaitChange(ctx context.Context, change int64, enough func(wire.Change) bool) (wire.Change, error) {
	for {
		now, err := c.GetChange(ctx, change)
		if err != nil || enough(now) {
			return now, err
		}
		select {
		case <-ctx.Done():
			return now, ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}
