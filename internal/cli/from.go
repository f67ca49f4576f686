package cli

import (
	"github.com/urfave/cli/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/work"
)

// fromFlags choose a source, and how to reach a server that is not in the
// settings.
func fromFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{
			Name:  "from",
			Usage: "`WHERE` entries come from: a yard of the settings, an LDIF file (plain, gzip or zstd; - for standard input), an ldap://, ldaps:// or ldapi:// URL, or a kept survey",
		},
		&cli.BoolFlag{
			Name:  "keep-going",
			Usage: "leave out records of a file that cannot be read; the exit status tells",
		},
	}, serverFlags()...)
}

// readFlags are those of commands that only read, for which a survey may do.
func readFlags() []cli.Flag {
	return append(fromFlags(), &cli.StringFlag{
		Name:  "fresh",
		Usage: "use the yard's last survey if it is at most `TIME` old (10m, 2h); else take a new one first, which mostly reads only changes",
	})
}

func serverFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "dialect",
			Usage: "read entries as `NAME`: " + directory.DialectNames + " (default: found out)",
		},
		&cli.StringFlag{Name: "base", Usage: "the `DN` to read from, for a URL"},
		&cli.StringFlag{Name: "bind", Usage: "the `NAME` to sign in with, for a URL"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` whose first line is the password"},
		&cli.StringFlag{Name: "password-env", Usage: "environment `VARIABLE` that holds the password"},
		&cli.StringFlag{Name: "password-command", Usage: "`COMMAND` that prints the password"},
		&cli.BoolFlag{Name: "kerberos", Usage: "sign in with the tickets of the credential cache"},
		&cli.StringFlag{
			Name:  "ca-file",
			Usage: "`FILE` with the certificate of the authority that signed the server's",
		},
		&cli.BoolFlag{Name: "starttls", Usage: "encrypt an ldap:// connection with StartTLS"},
	}
}

// from is the place that --from and the other flags mean.
func from(cmd *cli.Command) work.From {
	return at(cmd, cmd.String("from"))
}

// at is a place by its name, reached as the flags say.
func at(cmd *cli.Command, where string) work.From {
	return work.From{Where: where, KeepGoing: cmd.Bool("keep-going"), Fresh: cmd.String("fresh"), Access: work.Access{
		Dialect: cmd.String(
			"dialect"), Base: cmd.String("base"), CAFile: cmd.String("ca-file"), StartTLS: cmd.Bool("starttls"),
		Bind: cmd.String("bind"), PasswordFile: cmd.String("password-file"), PasswordEnv: cmd.String("password-env"),
		PasswordCommand: cmd.String("password-command"), Kerberos: cmd.Bool("kerberos")}}
}

func asOfFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "as-of",
		Usage: "judge for this `TIME`: a date (its end) or an RFC 3339 time (default: the survey's own, or now)",
	}
}

func activityFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "activity",
		Usage: "sign-ins that other systems recorded: a CSV `FILE`, or JSON lines, of account, time, source",
	}
}

// signInFlags say who else knows of sign-ins.
func signInFlags() []cli.Flag {
	return []cli.Flag{activityFlag(), logFlag(), &cli.BoolFlag{Name: "no-logs", Usage: "read no logs, though the settings name some"}}
}

func logFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name:  "log",
		Usage: "read this log of sign-ins: a `FILE`, a folder, a quoted pattern, or - for standard input; may be given several times (default: those of the settings)",
	}
}

// question is what is asked of a directory.
func question(cmd *cli.Command) (work.Question, error) {
	list, err := rosterFrom(cmd)
	return work.Question{
		Checks:  checkNames(cmd),
		AsOf:    cmd.String("as-of"),
		SignIns: cmd.String("activity"),
		Roster:  list,
		Logs:    work.LogsFrom{Paths: cmd.StringSlice("log"), None: cmd.Bool("no-logs")},
	}, err
}
