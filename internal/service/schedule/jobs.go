package schedule

import (
	"context"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/robfig/cron/v3"

	"crelvo/internal/service/act"
)

// jobs is the work in the background that is on a schedule, or must not be
// lost: a queue in the database, shared by all nodes.
type jobs struct {
	mu     sync.Mutex
	client *river.Client[pgx.Tx]
	// scheduled tells what is on the schedule, by kind and name, and at which times.
	scheduled map[string]string
}

const (
	jobsAtOnce = 4
	// longestJob ends a job that hangs.
	longestJob = 6 * time.Hour
)

// Parse reads a schedule in the cron form of five fields, in a time
// zone of the IANA database.
func Parse(schedule, zone string) (cron.Schedule, error) {
	in, err := time.LoadLocation(zone)
	if err != nil {
		return nil, act.Invalid("bad-zone", "%q is no time zone", zone).WithHint("Write it like Europe/Oslo, or UTC.")
	}
	parsed, err := readSchedule(schedule, in)
	if err != nil {
		return nil, act.Invalid("bad-schedule", "%q is no schedule: %v", schedule, err).
			WithHint("Write minute, hour, day of the month, month and day of the week: 30 5 * * 1-5 is 05:30 from Monday to " +
				"Friday.")
	}
	if often, ok := parsed.(cron.ConstantDelaySchedule); ok && often.Delay < time.Minute {
		return nil, act.Invalid("bad-schedule", "%q comes more often than once a minute", schedule).
			WithHint("Write @every 1m or longer.")
	}
	if parsed.Next(time.Now()).IsZero() {
		return nil, act.Invalid("bad-schedule", "%q never comes", schedule)
	}
	return parsed, nil
}

// NextTimes gives the next times of a schedule.
func NextTimes(schedule, zone string, from time.Time, n int) ([]time.Time, error) {
	parsed, err := Parse(schedule, zone)
	if err != nil {
		return nil, err
	}
	in, err := time.LoadLocation(zone)
	if err != nil {
		return nil, err
	}
	var times []time.Time
	for at := from; len(times) < n; {
		if at = parsed.Next(at); at.IsZero() {
			break
		}
		times = append(times, at.In(in))
	}
	return times, nil
}

// Worker brings workers of the queue.
type Worker interface{ Work(workers *river.Workers) }

// Open makes the queue's client, for those who work on it.
func (s *Schedule) Open(workers *river.Workers) error {
	client, err := river.NewClient(riverpgxv5.New(s.DB.Pool()), &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: jobsAtOnce}}, Workers: workers,
		JobTimeout: longestJob, Logger: s.Log, MaxAttempts: 1})
	if err != nil {
		return err
	}
	s.jobs.client, s.jobs.scheduled = client, map[string]string{}
	return nil
}

// Insert puts a job into the queue, to be done at once.
func (s *Schedule) Insert(ctx context.Context, job river.JobArgs) error {
	_, err := s.jobs.client.Insert(ctx, job, nil)
	return err
}

// Run works on the queue until ctx ends.
func (s *Schedule) Run(ctx context.Context) {
	for {
		err := s.jobs.client.Start(context.WithoutCancel(ctx))
		if err == nil {
			break
		}
		s.Log.Error("the queue of jobs could not be started", "error", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Second):
		}
	}
	for !s.until(ctx, true) { // this node is to be left alone
		s.stop(ctx)
		if s.until(ctx, false) {
			return
		}
		if err := s.jobs.client.Start(context.WithoutCancel(ctx)); err != nil {
			s.Log.Error("the queue of jobs could not be started again", "error", err)
		}
	}
	s.stop(ctx)
}

// until waits until the node is, or is not any more, to be left alone; ended tells that ctx
// ended first.
func (s *Schedule) until(ctx context.Context, draining bool) (ended bool) {
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return true
		case <-look.C:
			if s.Draining.Load() == draining {
				return false
			}
		}
	}
}

func (s *Schedule) stop(ctx context.Context) {
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	// What a job has fetched so far is kept; the rest comes next time.
	if err := s.jobs.client.StopAndCancel(stopping); err != nil {
		s.Log.Error("the queue of jobs did not stop in time", "error", err)
	}
}

// Rule is a job on a schedule.
type Rule struct {
	Schedule, Zone string
	Args           river.JobArgs
}

// Keep puts the jobs of a kind on the schedule, by name, and takes those
// off that are not wanted any more.
func (s *Schedule) Keep(kind string, wanted map[string]Rule) {
	s.jobs.mu.Lock()
	defer s.jobs.mu.Unlock()
	for name, was := range s.jobs.scheduled {
		of, name2, _ := strings.Cut(name, "/")
		if of != kind {
			continue
		}
		if rule, ok := wanted[name2]; !ok || was != rule.Zone+" "+rule.Schedule {
			s.jobs.client.PeriodicJobs().RemoveByID(name)
			delete(s.jobs.scheduled, name)
		}
	}
	for name, rule := range wanted {
		id := kind + "/" + name
		if _, ok := s.jobs.scheduled[id]; ok {
			continue
		}
		schedule, err := Parse(rule.Schedule, rule.Zone)
		if err != nil {
			s.Log.Error("a schedule cannot be read", "of", id, "error", err)
			continue
		}
		job := river.NewPeriodicJob(schedule, func() (river.JobArgs, *river.InsertOpts) {
			return rule.Args, nil
		}, &river.PeriodicJobOpts{ID: id})
		if _, err := s.jobs.client.PeriodicJobs().AddSafely(job); err != nil {
			s.Log.Error("a job could not be put on the schedule", "of", id, "error", err)
			continue
		}
		s.jobs.scheduled[id] = rule.Zone + " " + rule.Schedule
	}
}

// AbandonedRun is after how long without a sign of life a run is given up.
const AbandonedRun = 2 * time.Minute

// EndedInTheMiddle is why a run has an end that nobody noted.
const EndedInTheMiddle = "the service ended in the middle of it"
