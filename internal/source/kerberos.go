package source

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3/gssapi"
	"github.com/jcmturner/gokrb5/v8/credentials"

	"yardbroom/internal/pattern"
)

// kerberosClient reads tickets and the Kerberos configuration. The Kerberos
// package takes a realm's settings on lines of their own only, and stops the
// program at others.
func kerberosClient(cache, conf string) (client *gssapi.Client, err error) {
	text, err := os.ReadFile(conf)
	if err != nil {
		return nil, err
	}
	if spread := spreadRealms(string(text)); spread != string(text) {
		file, err := os.CreateTemp("", "yardbroom-krb5-*.conf")
		if err != nil {
			return nil, err
		}
		defer os.Remove(file.Name())
		_, err = file.WriteString(spread)
		if closed := file.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return nil, err
		}
		conf = file.Name()
	}
	defer func() {
		if broken := recover(); broken != nil {
			client, err = nil, fmt.Errorf("%s or the credential cache cannot be read (%v)", conf, broken)
		}
	}()
	if err := ticketLives(cache, time.Now()); err != nil {
		return nil, err
	}
	return gssapi.NewClientFromCCache(cache, conf)
}

// ticketLives is an error if the ticket by which others are got has expired.
func ticketLives(cache string, now time.Time) error {
	held, err := credentials.LoadCCache(cache)
	if err != nil {
		return err
	}
	var ended time.Time
	for _, c := range held.GetEntries() {
		if len(c.Server.PrincipalName.NameString) == 0 || c.Server.PrincipalName.NameString[0] != "krbtgt" {
			continue
		}
		if c.EndTime.After(now) {
			return nil
		}
		ended = c.EndTime
	}
	if ended.IsZero() {
		return nil // there may be a ticket for the service alone
	}
	return fmt.Errorf("the ticket in %s expired %s: get a new one", cache, ended.Local().Format("2006-01-02 15:04 MST"))
}

// oneLine is a section of a Kerberos configuration on one line, relation the
// beginning of a setting in it.
var (
	oneLine  = pattern.Lazy(`(?m)^([^\n#;]*=[ \t]*)\{([^\n{}]*)\}[ \t]*$`)
	relation = pattern.Lazy(`[A-Za-z_][A-Za-z0-9_-]*[ \t]*=`)
)

// spreadRealms puts the settings of sections that stand on one line, as in
// "REALM = { kdc = a kdc = b }", on lines of their own.
func spreadRealms(text string) string {
	return oneLine().ReplaceAllStringFunc(text, func(line string) string {
		parts := oneLine().FindStringSubmatch(line)
		starts := relation().FindAllStringIndex(parts[2], -1)
		var b strings.Builder
		b.WriteString(parts[1] + "{\n")
		for i, at := range starts {
			end := len(parts[2])
			if i+1 < len(starts) {
				end = starts[i+1][0]
			}
			b.WriteString("  " + strings.TrimRight(strings.TrimSpace(parts[2][at[0]:end]), ";") + "\n")
		}
		b.WriteString("}")
		return b.String()
	})
}
