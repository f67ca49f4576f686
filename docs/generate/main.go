// Generate writes docs/checks.md from the checks themselves:
//
//	go run ./docs/generate > docs/checks.md
package main

import (
	"fmt"
	"strings"

	"yardbroom/internal/audit"
)

func main() {
	fmt.Print(`# The checks

What each check of the audit reports, from the checks' own texts. ` + "`yardbroom checks NAME`" + ` shows the same.

Every finding names the attribute values that prove it and is *sure* or *likely*. An attribute that is absent proves something only where its presence could have been seen: if no entry of a kind in the survey carries it, the check is not looked at for that kind, and the summary says so. Built-in entries, mailboxes of rooms and teams, and trust accounts appear in no check unless it says so.

On OpenLDAP a healthy directory may hold no disabled account at all, so no account carries pwdAccountLockedTime. There a check that needs "enabled" is looked at all the same, and its findings are likely, not sure.

| check | severity | reports | actions |
| --- | --- | --- | --- |
`)
	for _, c := range audit.Checks {
		fmt.Printf("| [%s](#%s) | %s | %s | %s |\n", c.Name, c.Name, c.Severity, c.Short, strings.Join(c.Suggest, ", "))
	}
	for _, c := range audit.Checks {
		fmt.Printf("\n## %s\n\n%s", c.Name, c.Doc())
	}
}
