package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"oakenlatch/service/refusal"
	"oakenlatch/wire"
)

// Long work is begun by a request and goes on by itself: it is looked at, and
// stopped, as a job.

// Of jobs that are over, the newest are kept to be looked at.
const keptJobs = 50

// atOnceJobs is how many may run at a time.
const atOnceJobs = 4

type jobs struct {
	mu   sync.Mutex
	last int64
	list []*job // oldest first
}

type job struct {
	mu     sync.Mutex
	doc    wire.Job
	cancel context.CancelFunc
	over   chan struct{}
}

func (j *job) show() wire.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.doc
}

func (j *job) progress(done, total int, what string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.doc.Done, j.doc.Total, j.doc.Doing = done, total, what
}

// startJob starts a job. do tells its result, which its document then holds.
func (a *API) startJob(
	c *call, kind string, do func(ctx context.Context, progress func(done, total int, what string)) (any, error),
) (wire.Job, error) {
	a.jobs.mu.Lock()
	defer a.jobs.mu.Unlock()
	running := 0
	for _, j := range a.jobs.list {
		if j.show().State == wire.JobRunning {
			running++
		}
	}
	if running >= atOnceJobs {
		return wire.Job{}, refusal.New(
			refusal.Conflict, "wait until one is over", "%d long works are running already", running,
		)
	}
	a.jobs.last++
	stopping := a.Stopping
	if stopping == nil {
		stopping = context.Background()
	}
	ctx, cancel := context.WithCancel(stopping)
	j := &job{
		doc:    wire.Job{ID: a.jobs.last, Kind: kind, Actor: c.person.Name, State: wire.JobRunning, Begun: a.Log.Now()},
		cancel: cancel, over: make(chan struct{}),
	}
	a.jobs.list = append(a.jobs.list, j)
	if len(a.jobs.list) > keptJobs { // one that runs stays: somebody waits for it
		over := slices.IndexFunc(a.jobs.list, func(j *job) bool { return j.show().State != wire.JobRunning })
		a.jobs.list = slices.Delete(a.jobs.list, over, over+1)
	}
	go func() {
		defer close(j.over)
		defer cancel()
		result, err := guarded(func() (any, error) { return do(ctx, j.progress) })
		j.mu.Lock()
		defer j.mu.Unlock()
		j.doc.Ended, j.doc.State, j.doc.Result = a.Log.Now(), wire.JobDone, result
		switch {
		case errors.Is(err, context.Canceled):
			j.doc.State, j.doc.Trouble = wire.JobStopped, "it was stopped"
		case err != nil:
			j.doc.State, j.doc.Trouble = wire.JobFailed, err.Error()
			if p := problem(err); !internal(p) {
				j.doc.Trouble, j.doc.Next = p.Detail, p.Next
			}
		}
	}()
	return j.show(), nil
}

// guarded makes an error of a panic: long work that fails takes nothing else with
// it.
func guarded(do func() (any, error)) (result any, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it broke off at a mistake of the service: %v", r)
		}
	}()
	return do()
}

func (a *API) jobParam(c *call) (*job, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	a.jobs.mu.Lock()
	defer a.jobs.mu.Unlock()
	for _, j := range a.jobs.list {
		if err == nil && j.doc.ID == id && (j.doc.Actor == c.person.Name || c.person.Administers()) {
			return j, nil
		}
	}
	return nil, refusal.New(refusal.NotFound, "", "there is no job %s of yours", fmt.Sprintf("%q", c.Param("id")))
}

// job gives how a job stands; wait=SECONDS waits up to so long for its end.
func (a *API) job(c *call) (any, error) {
	j, err := a.jobParam(c)
	if err != nil {
		return nil, err
	}
	if n, err := strconv.Atoi(c.QueryParamOr("wait", "0")); err == nil && n > 0 {
		select {
		case <-j.over:
		case <-time.After(time.Duration(min(n, 30)) * time.Second):
		case <-c.ctx.Done():
		}
	}
	return j.show(), nil
}

func (a *API) stopJob(c *call) (any, error) {
	j, err := a.jobParam(c)
	if err != nil {
		return nil, err
	}
	j.cancel()
	return nil, nil
}
