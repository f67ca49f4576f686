package settings

import (
	"errors"
	"fmt"
	"time"
)

// Log is where a server writes down who signs in.
type Log struct {
	// Path is a file, a folder, or a pattern such as /var/log/slapd.log*.
	Path string `yaml:"path"`
	// Server is whose log it is, for people; found out where the log says so.
	Server string `yaml:"server"`
	// TimeZone is that of times without one: the yard's where it is not set.
	TimeZone string `yaml:"time_zone"`
	// Fields say which columns of a table, or fields of JSON lines, mean what, in a
	// log of a shape that is not known.
	Fields LogFields `yaml:"fields"`
	// Success and Failure are the words of the result field that mean a sign-in and a
	// refused one.
	Success Words `yaml:"success"`
	Failure Words `yaml:"failure"`
}

// LogFields are the names of columns, or of fields of JSON lines (a.b for one within
// another).
type LogFields struct {
	Time    string `yaml:"time"`
	Account string `yaml:"account"`
	Domain  string `yaml:"domain"`
	Address string `yaml:"address"`
	Machine string `yaml:"machine"`
	By      string `yaml:"by"`
	Result  string `yaml:"result"`
}

// Location is the zone of times without one, nil where the yard's counts.
func (l *Log) Location() (*time.Location, error) {
	if l.TimeZone == "" {
		return nil, nil
	}
	return time.LoadLocation(l.TimeZone)
}

func (l *Log) check() error {
	if l.Path == "" {
		return errors.New("path: say which file, folder or pattern")
	}
	if _, err := l.Location(); err != nil {
		return fmt.Errorf("time_zone: %w", err)
	}
	mapped := l.Fields != LogFields{}
	switch {
	case mapped && (l.Fields.Time == "" || l.Fields.Account == ""):
		return errors.New("fields: time and account are needed")
	case l.Fields.Result != "" && len(l.Failure) == 0 && len(l.Success) == 0:
		return errors.New("fields: result needs the words of success or failure")
	case l.Fields.Result == "" && (len(l.Failure) > 0 || len(l.Success) > 0):
		return errors.New("success and failure are words of fields.result, which is not set")
	}
	return nil
}
