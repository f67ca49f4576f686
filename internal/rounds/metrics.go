package rounds

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"google.golang.org/protobuf/proto"

	"yardbroom/internal/batch"
	"yardbroom/internal/whole"
)

// metrics are measurements by name, for an OpenMetrics text file.
type metrics struct{ families []*dto.MetricFamily }

// gauge adds a measurement. Labels are names and values by turns.
func (m *metrics) gauge(name, help string, value float64, labels ...string) {
	i := slices.IndexFunc(m.families, func(f *dto.MetricFamily) bool { return f.GetName() == name })
	if i < 0 {
		i = len(m.families)
		m.families = append(m.families, &dto.MetricFamily{Name: &name, Help: &help, Type: dto.MetricType_GAUGE.Enum()})
	}
	one := &dto.Metric{Gauge: &dto.Gauge{Value: &value}}
	for at := 0; at < len(labels); at += 2 {
		one.Label = append(one.Label, &dto.LabelPair{Name: proto.String(labels[at]), Value: proto.String(labels[at+1])})
	}
	m.families[i].Metric = append(m.families[i].Metric, one)
}

// write writes them as OpenMetrics text.
func (m *metrics) write(w io.Writer) error {
	for _, f := range m.families {
		if _, err := expfmt.MetricFamilyToOpenMetrics(w, f); err != nil {
			return err
		}
	}
	_, err := expfmt.FinalizeOpenMetrics(w)
	return err
}

// writeMetrics writes the file for a collector, which may be read by everybody, as
// collectors run as somebody else.
func (w *running) writeMetrics(ctx context.Context) error {
	if w.round.Metrics == "" {
		return nil
	}
	m := &metrics{}
	for i, y := range w.run.Yards {
		w.measureYard(m, i, y)
	}
	w.measureRun(m)
	waiting, err := w.kept.Waiting(ctx)
	if err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	m.gauge("yardbroom_messages_waiting", "Mails and posts of earlier runs that could not be handed over yet.", float64(len(waiting)))
	var text bytes.Buffer
	if err := m.write(&text); err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	f := file{data: text.Bytes()}
	if err := whole.Write(w.round.Metrics, f.write); err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	if err := os.Chmod(w.round.Metrics, 0o644); err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	return nil
}

// measureYard measures what was found in a yard.
func (w *running) measureYard(m *metrics, at int, y *YardRun) {
	if y.Facts != nil && !y.Facts.Taken.IsZero() {
		m.gauge("yardbroom_survey_timestamp_seconds", "When the directory was as the findings say.",
			float64(y.Facts.Taken.Unix()), "yard", y.Yard)
		m.gauge("yardbroom_survey_whole", "Whether nothing was missing in what was read.", truth(y.Facts.Whole), "yard", y.Yard)
	}
	for _, r := range w.reports {
		if r.yard != y.Yard || r.whole == nil {
			continue
		}
		for _, sum := range r.whole.Summary {
			if sum.Looked {
				m.gauge("yardbroom_findings", "Findings by check.", float64(sum.Findings), "yard", y.Yard, "check", sum.Check,
					"severity", sum.Severity.String())
			}
		}
	}
	for i, severity := range []string{"high", "medium", "low", "info"} {
		m.gauge("yardbroom_findings_new", "Findings that the round had not reported before.", float64(y.New.list()[i]), "yard", y.Yard,
			"severity", severity)
	}
	for _, r := range w.reports {
		if r.yard != y.Yard || r.whole == nil {
			continue
		}
		counts := r.whole.Survey.CountStates(r.whole.AsOf)
		for _, kind := range slices.Sorted(maps.Keys(counts)) {
			for _, state := range slices.Sorted(maps.Keys(counts[kind])) {
				m.gauge("yardbroom_accounts", "Accounts by kind and state.", float64(counts[kind][state]), "yard", y.Yard, "kind", kind,
					"state", state)
			}
		}
		break // the others are of the same survey
	}
}

// measureRun measures what became of the run.
func (w *running) measureRun(m *metrics) {
	r := w.run
	for _, outcome := range []Outcome{Done, Stopped, OnHold, Failed, Killed} {
		m.gauge("yardbroom_round_outcome", "How the last run ended: 1 for that outcome.", truth(r.Outcome == outcome), "round", w.name,
			"outcome", string(outcome))
	}
	m.gauge("yardbroom_round_end_timestamp_seconds", "When the last run ended.", float64(r.Ended.Unix()), "round", w.name)
	m.gauge("yardbroom_round_duration_seconds", "How long the last run took.", r.Ended.Sub(r.Began).Seconds(), "round", w.name)
	done := w.lastDone
	if r.Outcome == Done {
		done = r.Ended
	}
	if !done.IsZero() {
		m.gauge("yardbroom_round_success_timestamp_seconds", "When the last run ended that was done.", float64(done.Unix()), "round",
			w.name)
	}
	if when, timed, err := w.round.Schedule(w.Settings); err == nil && timed {
		m.gauge("yardbroom_round_next_timestamp_seconds", "When the next run is due.", float64(when.Next(r.Ended).Unix()), "round", w.name)
	}
	m.gauge("yardbroom_round_held", "Whether the brake holds the round until somebody releases it.",
		truth(len(r.Stops) > 0 || w.isHeld()), "round", w.name)
	lines := map[batch.LineState]int{}
	waiting := 0
	for _, b := range r.Waiting() {
		waiting += b.Lines
	}
	for _, y := range r.Yards {
		for _, s := range y.Steps {
			for _, b := range s.Batches {
				for state, n := range b.States {
					lines[state] += n
				}
			}
		}
	}
	const name, help = "yardbroom_round_lines", "Lines of batches that the last run carried out, by what became of them, and that wait."
	m.gauge(name, help, float64(waiting), "round", w.name, "state", "waiting")
	for _, state := range batch.LineStates {
		if state != batch.Waiting {
			m.gauge(name, help, float64(lines[state]), "round", w.name, "state", string(state))
		}
	}
}

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}
