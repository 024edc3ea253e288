package rule

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// Record is what was done with a message. It holds no content.
type Record struct {
	Key        string       `json:"key"` // of this record alone
	Time       time.Time    `json:"time"`
	MessageID  string       `json:"messageId"`
	Queue      string       `json:"queue"` // the mail server's name for it
	Way        string       `json:"way"`   // milter or smtp
	Sender     string       `json:"sender"`
	Recipients []string     `json:"recipients"`
	Outcome    Outcome      `json:"outcome"`
	Failed     bool         `json:"failed"`
	Says       string       `json:"says"`
	Rule       string       `json:"rule"`   // names of those that decided
	Before     int          `json:"before"` // bytes
	After      int          `json:"after"`  // bytes
	Place      string       `json:"place"`
	Unsure     bool         `json:"unsure"`
	Bundle     string       `json:"bundle"`
	Release    int          `json:"release"` // whose rules decided; 0 for none
	Took       float64      `json:"took"`    // milliseconds that judging took
	Steps      []RecordStep `json:"steps"`
}

// RecordStep is what one rule did, without anything of the message.
type RecordStep struct {
	Rule  string `json:"rule"`
	State State  `json:"state"`
	Lacks string `json:"lacks"` // why it did not apply; blank where it did
	Says  string `json:"says"`  // what it did; blank where it did not apply
}

// RecordOf takes from a trace what is kept.
func RecordOf(t *Trace) Record {
	r := Record{MessageID: t.MessageID, Sender: t.Sender, Recipients: t.Recipients, Outcome: t.Outcome, Failed: t.Failed, Says: t.Says,
		Before: t.Before, After: t.After, Unsure: t.Unsure, Release: t.Release, Steps: []RecordStep{}}
	var names []string
	for _, s := range t.Rules {
		step := RecordStep{Rule: s.Rule, State: s.State, Lacks: s.Lacks}
		if s.Applies {
			names = append(names, s.Rule)
			step.Says = s.Says
		}
		r.Steps = append(r.Steps, step)
	}
	r.Rule = strings.Join(names, ",")
	if len(t.Changes) > 0 {
		r.Place = string(t.Changes[0].Where)
	}
	return r
}

// MaxRecords is how many records one report holds at most.
const MaxRecords = 500

// TookBounds are the upper bounds of the histogram of judging, in milliseconds; what took longer is counted behind the last.
var TookBounds = []float64{1, 2, 5, 10, 20, 50, 100, 200, 500, 1000}

// GatewayCounts is how many messages there were since the gateway began.
type GatewayCounts struct {
	Outcomes map[Outcome]int `json:"outcomes"`
	Failed   int             `json:"failed"` // should have been stamped and could not be
	Unsure   int             `json:"unsure"` // the place of the newest text was unsure
	Took     []int           `json:"took"`   // by TookBounds, with one more for what took longer
	TookSum  float64         `json:"tookSum"`
}

// GatewayReport is what a gateway tells a service: that it is there, what it has, and what it did with messages.
type GatewayReport struct {
	Gateway string        `json:"gateway"` // its name
	Version string        `json:"version"` // of the program
	Bundle  string        `json:"bundle"`
	Ways    []string      `json:"ways"` // milter, smtp
	Started time.Time     `json:"started"`
	Counts  GatewayCounts `json:"counts"`
	Waiting int           `json:"waiting"` // records that are still to be reported
	Dropped int           `json:"dropped"` // records that were not reported, because too many waited
	Records []Record      `json:"records"`
}

// figures describes the figures of gateways: name, type and what it is.
var figures = [][3]string{
	{"mail_messages", "counter", "Messages by outcome since the gateway began."},
	{"mail_failed", "counter", "Messages that should have been stamped and went out unchanged or were held back."},
	{"mail_unsure", "counter", "Messages whose newest text was found unsurely."},
	{"mail_records_waiting", "gauge", "Records that wait for the service."},
	{"mail_records_dropped", "counter", "Records that were dropped because too many waited."},
	{"mail_judging_seconds", "histogram", "How long judging and stamping a message took."},
}

// Figures writes the figures of gateways as OpenMetrics 1.0 text, without the line that ends it.
func Figures(w io.Writer, reports ...GatewayReport) {
	for _, f := range figures {
		fmt.Fprintf(w, "# TYPE missivum_%s %s\n# HELP missivum_%s %s\n", f[0], f[1], f[0], f[2])
		for _, r := range reports {
			r.figure(w, f[0])
		}
	}
}

// figure writes one figure of a gateway.
func (r GatewayReport) figure(w io.Writer, name string) {
	one := func(ending, labels string, value any) {
		fmt.Fprintf(w, "missivum_%s%s{gateway=%q%s} %v\n", name, ending, r.Gateway, labels, value)
	}
	switch name {
	case "mail_messages":
		for _, o := range []Outcome{Stamped, Enclosed, Unchanged, Refused, Held} {
			one("_total", fmt.Sprintf(",outcome=%q", o), r.Counts.Outcomes[o])
		}
	case "mail_failed":
		one("_total", "", r.Counts.Failed)
	case "mail_unsure":
		one("_total", "", r.Counts.Unsure)
	case "mail_records_waiting":
		one("", "", r.Waiting)
	case "mail_records_dropped":
		one("_total", "", r.Dropped)
	case "mail_judging_seconds":
		sum := 0
		for i, n := range r.Counts.Took {
			sum += n
			bound := "+Inf"
			if i < len(TookBounds) {
				bound = fmt.Sprint(TookBounds[i] / 1000)
			}
			one("_bucket", fmt.Sprintf(",le=%q", bound), sum)
		}
		one("_sum", "", r.Counts.TookSum/1000)
		one("_count", "", sum)
	}
}
