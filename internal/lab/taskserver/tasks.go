package taskserver

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

type task struct {
	UID        int            `json:"uid"`
	IndexUID   *string        `json:"indexUid"`
	Status     string         `json:"status"`
	Type       string         `json:"type"`
	CanceledBy *int           `json:"canceledBy"`
	Details    map[string]any `json:"details,omitempty"`
	Error      *Error         `json:"error"`
	Duration   *string        `json:"duration"`
	EnqueuedAt time.Time      `json:"enqueuedAt"`
	StartedAt  *time.Time     `json:"startedAt"`
	FinishedAt *time.Time     `json:"finishedAt"`

	do func() *Error
}

// copied returns the task as it is now. The caller holds mu and may read the copy without it.
func (t *task) copied() task {
	c := *t
	c.Details = maps.Clone(t.Details)
	return c
}

// mostQueued is how many tasks may wait.
const mostQueued = 100_000

// enqueue notes a task and answers with its number. do is called with mu held.
func (s *Server) enqueue(kind, index string, details map[string]any, do func() *Error) (int, any, *Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.queue == nil {
		s.queue = make(chan *task, mostQueued)
		go s.work()
	}
	t := &task{UID: len(s.tasks), Status: "enqueued", Type: kind, Details: details, EnqueuedAt: time.Now().UTC(), do: do}
	if index != "" {
		t.IndexUID = &index
	}
	select {
	case s.queue <- t:
	default:
		return 0, nil, fault(http.StatusUnprocessableEntity, "no_space_left_on_device", "The queue of tasks is full.")
	}
	s.tasks = append(s.tasks, t)
	return http.StatusAccepted, map[string]any{
		"taskUid": t.UID, "indexUid": t.IndexUID, "status": t.Status, "type": t.Type, "enqueuedAt": t.EnqueuedAt,
	}, nil
}

// work carries out tasks, one after the other, for as long as the process runs.
func (s *Server) work() {
	for t := range s.queue {
		s.mu.Lock()
		if t.Status == "canceled" {
			s.mu.Unlock()
			continue
		}
		began := time.Now().UTC()
		t.Status, t.StartedAt = "processing", &began
		s.mu.Unlock()
		time.Sleep(s.Takes)
		s.mu.Lock()
		if t.Error = t.do(); t.Error != nil {
			t.Status = "failed"
		} else {
			t.Status = "succeeded"
		}
		ended := time.Now().UTC()
		took := fmt.Sprintf("PT%.6fS", ended.Sub(began).Seconds())
		t.FinishedAt, t.Duration, t.do = &ended, &took, nil
		s.mu.Unlock()
	}
}

// taskRoute answers requests below /tasks.
func (s *Server) taskRoute(method string, parts []string, q map[string][]string) (int, any, *Error) {
	switch {
	case method == http.MethodGet && len(parts) == 1 && parts[0] != "":
		uid, err := strconv.Atoi(parts[0])
		s.mu.Lock()
		defer s.mu.Unlock()
		if err != nil || uid < 0 || uid >= len(s.tasks) || s.tasks[uid] == nil {
			return 0, nil, fault(404, "task_not_found", "Task `%s` not found.", parts[0])
		}
		return http.StatusOK, s.tasks[uid].copied(), nil
	case method == http.MethodGet:
		return s.listTasks(q)
	case method == http.MethodPost && len(parts) == 1 && parts[0] == "cancel":
		chosen, fail := s.chosen(q)
		if fail != nil {
			return 0, nil, fail
		}
		return s.now("taskCancelation", func(by int) int {
			n := 0
			for _, t := range chosen {
				if t.Status == "enqueued" {
					ended := time.Now().UTC()
					t.Status, t.CanceledBy, t.FinishedAt, t.do = "canceled", &by, &ended, nil
					n++
				}
			}
			return n
		}, "canceledTasks", len(chosen))
	case method == http.MethodDelete:
		chosen, fail := s.chosen(q)
		if fail != nil {
			return 0, nil, fail
		}
		return s.now("taskDeletion", func(int) int {
			n := 0
			for _, t := range chosen {
				if t.Status != "enqueued" && t.Status != "processing" {
					s.tasks[t.UID] = nil
					n++
				}
			}
			return n
		}, "deletedTasks", len(chosen))
	}
	return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", method)
}

// now carries out a task immediately, before those that wait, as cancellations are.
func (s *Server) now(kind string, do func(uid int) int, counted string, matched int) (int, any, *Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, took := time.Now().UTC(), "PT0.000001S"
	t := &task{UID: len(s.tasks), Status: "succeeded", Type: kind, EnqueuedAt: at, StartedAt: &at, FinishedAt: &at, Duration: &took}
	s.tasks = append(s.tasks, t)
	t.Details = map[string]any{"matchedTasks": matched, counted: do(t.UID)}
	return http.StatusOK, map[string]any{"taskUid": t.UID, "indexUid": nil, "status": "enqueued", "type": kind, "enqueuedAt": at}, nil
}

// chosen are the tasks that a filter of the address names. A request without one names none.
func (s *Server) chosen(q map[string][]string) ([]*task, *Error) {
	fits, fail := taskFilter(q)
	if fail != nil {
		return nil, fail
	}
	if len(q) == 0 {
		return nil, fault(400, "missing_task_filters", "Query parameters to filter the tasks are missing.")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []*task
	for _, t := range s.tasks {
		if t != nil && fits(t) {
			out = append(out, t)
		}
	}
	return out, nil
}

func taskFilter(q map[string][]string) (func(t *task) bool, *Error) {
	wanted := map[string][]string{}
	for _, name := range []string{"uids", "statuses", "types", "indexUids", "canceledBy"} {
		if v := q[name]; len(v) > 0 && v[0] != "*" && v[0] != "" {
			wanted[name] = strings.Split(v[0], ",")
		}
	}
	for _, uid := range wanted["uids"] {
		if _, err := strconv.Atoi(uid); err != nil {
			return nil, fault(400, "invalid_task_uids", "Invalid value in parameter `uids`: could not parse `%s` as a positive integer", uid)
		}
	}
	is := func(name, value string) bool { return wanted[name] == nil || slices.Contains(wanted[name], value) }
	return func(t *task) bool {
		index, by := "", ""
		if t.IndexUID != nil {
			index = *t.IndexUID
		}
		if t.CanceledBy != nil {
			by = strconv.Itoa(*t.CanceledBy)
		}
		return is("uids", strconv.Itoa(t.UID)) && is("statuses", t.Status) && is("types", t.Type) && is("indexUids", index) && is("canceledBy", by)
	}, nil
}

func (s *Server) listTasks(q map[string][]string) (int, any, *Error) {
	fits, fail := taskFilter(q)
	if fail != nil {
		return 0, nil, fail
	}
	first := func(name string) string {
		if v := q[name]; len(v) > 0 {
			return v[0]
		}
		return ""
	}
	_, limit, fail := pageOf("", first("limit"), 20)
	if fail != nil {
		return 0, nil, fail
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	from := len(s.tasks) - 1
	if text := first("from"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			return 0, nil, fault(400, "invalid_task_from", "Invalid value in parameter `from`: could not parse `%s` as a positive integer", text)
		}
		from = min(from, n)
	}
	list, total := []task{}, 0
	var next, start *int
	for _, t := range slices.Backward(s.tasks) {
		if t == nil || !fits(t) {
			continue
		}
		total++
		switch {
		case t.UID > from:
		case len(list) < limit:
			if start == nil {
				start = &t.UID
			}
			list = append(list, t.copied())
		case next == nil:
			next = &t.UID
		}
	}
	return http.StatusOK, map[string]any{"results": list, "total": total, "limit": limit, "from": start, "next": next}, nil
}
