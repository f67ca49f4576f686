package settings

import (
	"errors"
	"fmt"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
)

// Yard is one directory in somebody's care.
type Yard struct {
	Servers  []string `yaml:"servers"`
	Avoid    []string `yaml:"avoid"`
	Base     string   `yaml:"base"`
	Scope    []string `yaml:"scope"`
	LeaveOut []string `yaml:"leave_out"`
	Bind     Bind     `yaml:"bind"`
	CAFile   string   `yaml:"ca_file"`
	StartTLS bool     `yaml:"starttls"`
	Dialect  string   `yaml:"dialect"`
	TimeZone string   `yaml:"time_zone"`
	PageSize int      `yaml:"page_size"`
	Timeout  Wait     `yaml:"timeout"`
	// ReadWithin is how long one reading may take as a whole.
	ReadWithin Wait `yaml:"read_within"`
	// SettleWithin is how long a write is read back until it shows.
	SettleWithin Wait `yaml:"settle_within"`
	// ReplicatesWithin is how late a change that was made on another server may come.
	ReplicatesWithin Wait `yaml:"replicates_within"`
	// FullSurveyEvery is how old the last reading of everything may be where a survey
	// reads only what has changed; zero means a week.
	FullSurveyEvery calendar.Span `yaml:"full_survey_every"`
	DefaultPolicy   string        `yaml:"default_policy"`
	// Homes say which folders of this machine the home folders of the accounts
	// are.
	Homes []homes.Share `yaml:"homes"`
	// Logs are where its servers, and what signs in to them, write down who does.
	Logs []Log `yaml:"logs"`
}

// Bind is how to sign in. At most one source of a password is given; with
// none, and no Kerberos, the bind is anonymous.
type Bind struct {
	DN              string `yaml:"dn"`
	PasswordFile    string `yaml:"password_file"`
	PasswordEnv     string `yaml:"password_env"`
	PasswordCommand string `yaml:"password_command"`
	Ask             bool   `yaml:"ask"`
	Kerberos        bool   `yaml:"kerberos"`
	CredentialCache string `yaml:"credential_cache"`
	Service         string `yaml:"service"` // service principal, default ldap/HOST
}

// Check refuses what cannot work.
func (y *Yard) Check() error {
	if f := y.check(); f != nil {
		return fmt.Errorf("%s%w", f.where(), f.Err)
	}
	return nil
}

func (y *Yard) check() *Fault {
	if len(y.Servers) == 0 {
		return Faulty(errors.New("name at least one"), "servers")
	}
	if y.Dialect != "" {
		if _, err := directory.DialectNamed(y.Dialect); err != nil {
			return Faulty(err, "dialect")
		}
	}
	for _, one := range []struct {
		where string
		dns   []string
	}{{"scope", y.Scope}, {"leave_out", y.LeaveOut}} {
		if f := checkDNs(one.dns, one.where); f != nil {
			return f
		}
	}
	for _, one := range []struct{ where, dn string }{{"base", y.Base}, {"default_policy", y.DefaultPolicy}} {
		if _, err := directory.ParseDN(one.dn); err != nil {
			return Faulty(fmt.Errorf("%q is not a distinguished name, such as DC=larkmoor,DC=example", one.dn), one.where)
		}
	}
	if err := homes.CheckAll(y.Homes); err != nil {
		return Faulty(err, "homes")
	}
	if _, err := y.Location(); err != nil {
		return Faulty(err, "time_zone")
	}
	for i := range y.Logs {
		if err := y.Logs[i].check(); err != nil {
			return Faulty(err, "logs", i)
		}
	}
	if err := y.Bind.check(); err != nil {
		return Faulty(err, "bind")
	}
	return nil
}

func (b *Bind) check() error {
	sources := 0
	for _, given := range []bool{b.PasswordFile != "", b.PasswordEnv != "", b.PasswordCommand != "", b.Ask, b.Kerberos} {
		if given {
			sources++
		}
	}
	switch {
	case sources > 1:
		return errors.New("give one of password_file, password_env, password_command, ask and kerberos")
	case b.DN != "" && sources == 0:
		return errors.New("a dn needs one of password_file, password_env, password_command and ask")
	case b.DN == "" && sources == 1 && !b.Kerberos:
		return errors.New("a password needs a dn")
	}
	return nil
}

// Location returns the yard's time zone, UTC where none is set.
func (y *Yard) Location() (*time.Location, error) {
	if y.TimeZone == "" {
		return time.UTC, nil
	}
	return time.LoadLocation(y.TimeZone)
}

// Wait is a short time such as 30s or 2m.
type Wait time.Duration

// UnmarshalText reads a Go duration.
func (w *Wait) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err != nil || d <= 0 {
		err = fmt.Errorf("%q is not a time to wait: write 30s or 5m", text)
	}
	*w = Wait(d)
	return err
}
