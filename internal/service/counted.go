package service

import "context"

// countedNow writes what was counted, where a request wants to show it. What
// cannot be counted now is no reason to refuse the request.
func (s *Service) countedNow(ctx context.Context) {
	if err := s.counting.Flush(ctx); err != nil {
		s.log.Warn("what was counted could not be written yet", "error", err)
	}
}

// countsLost tells that something that was counted had to be dropped.
func (s *Service) countsLost(rows int) {
	s.log.Error("some counts cannot be written and were dropped", "rows", rows)
	s.worry("counts", Concern{Level: "wrong", What: plural(int64(rows), "row") + " of what was counted could not be written and was dropped, last at " + s.Now().UTC().Format(timeForm),
		Do: "The log of the service has the time; tell whoever looks after Crelvo. All other counts were written.", Page: "/status"})
}
