//go:build !unix

package cli

import "log/slog"

// systemLogs are the logs of this system: there are none.
var systemLogs map[string]func() (slog.Handler, error)
