package cli

import (
	"fmt"
	"log/slog"
)

// roundLog is where a round logs what happens; nil where nobody asked for that.
func (a *app) roundLog(format string) (*slog.Logger, error) {
	handler := systemLogs[format]
	switch {
	case format == "":
		return nil, nil
	case format == "json":
		return slog.New(slog.NewJSONHandler(clearing{a.progress, a.err}, nil)), nil
	case handler == nil:
		return nil, usage("--log: %q is none of json, syslog and journald, or this system has none", format)
	}
	h, err := handler()
	if err != nil {
		return nil, fmt.Errorf("--log %s: %w", format, err)
	}
	return slog.New(h), nil
}
