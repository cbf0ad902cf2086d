package definition

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"gopkg.in/yaml.v3"

	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
)

var timeOfDay = regexp.MustCompile(`^([01]\d|2[0-3]):[0-5]\d$`)

// longestKept bounds keep_previous.
const longestKept = 30 * 24 * time.Hour

// policy reads the policy of refills.
func (d *decoder) policy(p *reindex.Policy, v *yaml.Node) {
	begin, change := reindex.Now, reindex.SwitchChecked
	d.object(v, "reindex", fields{
		"begin": func(_, v *yaml.Node) {
			s := d.text(v, "begin")
			if begin = s.text; s.text != "" && begin != reindex.Now && begin != "on_command" &&
				!timeOfDay.MatchString(begin) {
				d.find(
					s.pos,
					fmt.Sprintf("begin cannot be %q", begin),
					`write now, on_command, or a time such as "02:00"`,
				)
			}
		},
		"switch":  d.word(&change, "switch", reindex.SwitchChecked, "on_command", reindex.SwitchAlways),
		"compare": d.word(&p.Compare, "compare", reindex.CompareSample, reindex.CompareAll, reindex.CompareNone),
		"keep_previous": func(_, v *yaml.Node) {
			p.KeepPrevious = d.span(v, "keep_previous", 0, longestKept)
		},
		"failed": func(_, v *yaml.Node) {
			s := d.text(v, "failed")
			number, isShare := strings.CutSuffix(s.text, "%")
			n, err := strconv.ParseFloat(number, 64)
			if s.text != "" && (err != nil || !(n >= 0) || isShare && n > 100 || !isShare && n != math.Trunc(n) || n > 1e12) {
				d.find(
					s.pos,
					fmt.Sprintf("failed is a share such as 1%% or a number of documents, not %q", s.text),
					"write a number from 0 to 100 and %, or a whole number",
				)
				return
			}
			if p.Failed = (reindex.Limit{Number: int64(n)}); isShare {
				p.Failed = reindex.Limit{Share: n / 100}
			}
		},
		"documents_per_second": func(_, v *yaml.Node) {
			p.Pace.Documents = int64(d.number(v, "documents_per_second", 1, 1e9))
		},
		"bytes_per_second": func(_, v *yaml.Node) {
			s := d.text(v, "bytes_per_second")
			n, err := humanize.ParseBytes(s.text)
			if s.text != "" && (err != nil || n < 1000 || n > 1e12) {
				d.find(
					s.pos,
					fmt.Sprintf("bytes_per_second is a size such as 2MB, not %q", s.text),
					"write a number and kB, MB or GB",
				)
			}
			p.Pace.Bytes = int64(n)
		},
		"workers": func(_, v *yaml.Node) { p.Pace.Workers = int(d.number(v, "workers", 1, reindex.MostWorkers)) },
		"hours": func(_, v *yaml.Node) {
			s := d.text(v, "hours")
			hours, err := reindex.ParseHours(s.text)
			if s.text != "" && err != nil {
				d.find(
					s.pos,
					fmt.Sprintf("hours cannot be %q", s.text),
					`write a span of the day, such as "22:00-06:00"`,
				)
			}
			p.Pace.Hours = hours
		},
	})
	// Words have _ for a blank in a definition.
	p.Begin, p.Switch = strings.ReplaceAll(begin, "_", " "), strings.ReplaceAll(change, "_", " ")
}

// span reads a time, or 0 where it may be none.
func (d *decoder) span(v *yaml.Node, what string, least, most time.Duration) time.Duration {
	s := d.text(v, what)
	n, err := time.ParseDuration(s.text)
	if s.text == "" || s.text == "0" && least == 0 {
		return 0
	}
	if err != nil || n < least || n > most {
		bounds := fmt.Sprintf("at most %v", most)
		if most >= time.Hour {
			bounds = fmt.Sprintf("at most %.0fh", most.Hours())
		}
		if least > 0 {
			bounds = fmt.Sprintf("at least %v and %s", least, bounds)
		}
		hint := "write a number and s, m or h"
		if most < time.Minute {
			hint = "write a number and ms or s"
		}
		if least == 0 {
			hint += ", or 0 for none"
		}
		d.find(s.pos, fmt.Sprintf("%s is a time such as 30m or 24h, %s, not %q", what, bounds, s.text), hint)
	}
	return n
}

// drift reads how an index is compared with its rows.
func (d *decoder) drift(p *drift.Policy, v *yaml.Node) {
	d.object(v, "drift", fields{
		"sweep": func(_, v *yaml.Node) { p.Every = d.span(v, "sweep", 0, longestKept) },
		"check": func(_, v *yaml.Node) {
			s := d.text(v, "check")
			if _, err := drift.ParseSchedule(s.text); s.text != "" && err != nil {
				d.find(
					s.pos,
					fmt.Sprintf("check cannot be %q: %v", s.text, err),
					`write minute, hour, day, month and weekday, such as "30 3 * * *" for half past three each night`,
				)
			}
			p.At = s.text
		},
		"repair": func(_, v *yaml.Node) {
			s := d.text(v, "repair")
			n, err := strconv.ParseInt(s.text, 10, 64)
			switch {
			case s.text == drift.ReportOnly || s.text == drift.RepairAll:
				p.Repair = s.text
			case err == nil && n > 0:
				p.Repair, p.Few = drift.RepairFew, n
			case s.text != "":
				d.find(
					s.pos,
					fmt.Sprintf("repair cannot be %q", s.text),
					"write report, all, or how many documents a check may repair at most",
				)
			}
		},
		"content": func(_, v *yaml.Node) {
			s := d.text(v, "content")
			n, err := strconv.ParseFloat(strings.TrimSuffix(s.text, "%"), 64)
			if s.text != "" && (err != nil || !strings.HasSuffix(s.text, "%") || !(n >= 0 && n <= 100)) {
				d.find(
					s.pos,
					fmt.Sprintf("content is a share such as 10%%, not %q", s.text),
					"write a number from 0 to 100 and %",
				)
			}
			p.Content = n / 100
		},
		"documents_per_second": func(_, v *yaml.Node) {
			p.Documents = int64(d.number(v, "documents_per_second", 1, 1e9))
		},
	})
}

// alerts reads whom to tell, and when.
func (d *decoder) alerts(v *yaml.Node) {
	a := &d.def.Alerts
	var url, secret scalar
	limit := func(into *int64, what string) func(_, v *yaml.Node) {
		return func(_, v *yaml.Node) { *into = int64(d.number(v, what, 0, 1e12)) }
	}
	d.object(v, "alerts", fields{
		"url":       func(_, v *yaml.Node) { url = d.text(v, "url") },
		"secret":    func(_, v *yaml.Node) { secret = d.text(v, "secret") },
		"lag":       func(_, v *yaml.Node) { a.Limits.Lag = d.span(v, "lag", time.Second, longestKept) },
		"blocked":   func(_, v *yaml.Node) { a.Limits.Blocked = d.span(v, "blocked", time.Second, longestKept) },
		"failed":    limit(&a.Limits.Failed, "failed"),
		"differing": limit(&a.Limits.Differing, "differing"),
	})
	if url.text == "" {
		return
	}
	a.URL = d.secretURL(url, "alerts", []string{"https", "http"})
	a.Secret = Secret{Written: secret.text, Pos: secret.pos}
	if secret.text == "" || reference.ReplaceAllString(secret.text, "") != "" {
		d.find(
			url.pos,
			"events are signed, with a secret that is written nowhere in the definition",
			"put a secret of Standard Webhooks (whsec_ and base64) into an environment variable, and write secret: ${NAME}",
		)
		return
	}
	if _, err := d.reveal(a.Secret); err != nil {
		d.find(secret.pos, err.Error(), "set it where pingo serve runs, then try again")
	}
}

// expect reads searches whose outcome is known.
func (d *decoder) expect(v *yaml.Node) (out []reindex.Expectation) {
	const example = "write - { search: words, finds: KEY, among: 3 }"
	if v.Kind != yaml.SequenceNode {
		d.find(d.at(v), fmt.Sprintf("expect is a list of searches, not %s", kindName(v)), example)
		return nil
	}
	if len(v.Content) > mostExpected {
		d.find(
			d.at(v),
			fmt.Sprintf("expect has %d searches, and may have %d", len(v.Content), mostExpected),
			"keep those that matter most",
		)
	}
	for _, one := range v.Content {
		x := reindex.Expectation{Among: 10}
		d.object(one, "expect", fields{
			"search": d.into(&x.Search, "search"),
			"finds":  d.into(&x.Finds, "finds"),
			"among":  func(_, v *yaml.Node) { x.Among = int(d.number(v, "among", 1, 100)) },
		}, "search", "finds")
		out = append(out, x)
	}
	return out
}

// mostExpected bounds how many searches are run before an edition answers.
const mostExpected = 200
