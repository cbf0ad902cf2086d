package definition

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"gopkg.in/yaml.v3"

	"pingo/internal/core/reindex"
)

var timeOfDay = regexp.MustCompile(`^([01]\d|2[0-3]):[0-5]\d$`)

// longestKept bounds keep_previous.
const longestKept = 30 * 24 * time.Hour

// policy reads how an index is filled anew.
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
			s := d.text(v, "keep_previous")
			n, err := time.ParseDuration(s.text)
			if s.text != "" && s.text != "0" && (err != nil || n < 0 || n > longestKept) {
				d.find(
					s.pos,
					fmt.Sprintf(
						"keep_previous is a time such as 30m or 24h, at most %.0fh, not %q",
						longestKept.Hours(),
						s.text,
					),
					"write a number and s, m or h, or 0 to keep none",
				)
			}
			p.KeepPrevious = n
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
