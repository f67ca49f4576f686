//go:build unix

package cli

import (
	"log/slog"
	"log/syslog"
	"strings"

	journal "github.com/systemd/slog-journal"
)

// systemLogs are the logs of this system.
var systemLogs = map[string]func() (slog.Handler, error){
	"syslog": func() (slog.Handler, error) {
		w, err := syslog.New(syslog.LOG_INFO|syslog.LOG_DAEMON, "yardbroom") // RFC 5424, section 6.2.1
		return slog.NewTextHandler(w, &slog.HandlerOptions{ReplaceAttr: withoutTime}), err
	},
	"journald": func() (slog.Handler, error) {
		return journal.NewHandler(&journal.Options{ReplaceGroup: journalName, ReplaceAttr: func(_ []string, attr slog.Attr) slog.Attr {
			attr.Key = journalName(attr.Key)
			return attr
		}})
	},
}

// withoutTime leaves out the time, which syslog adds.
func withoutTime(groups []string, attr slog.Attr) slog.Attr {
	if len(groups) == 0 && attr.Key == slog.TimeKey {
		return slog.Attr{}
	}
	return attr
}

// journalName is a name as journald takes it, marked as this program's.
func journalName(name string) string { return "YARDBROOM_" + strings.ToUpper(name) }
