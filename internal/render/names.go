package render

import (
	"cmp"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

// signsIn are the kinds of what may sign in, as findings name them.
var signsIn = map[string]bool{
	directory.KindUser.String(): true, directory.KindService.String(): true, directory.KindComputer.String(): true, directory.KindResource.String(): true,
}

// EntryNames are what commands call entries: their logon names, else their DNs.
func EntryNames(entries []directory.Entry) []string {
	names := make([]string, len(entries))
	for i := range entries {
		names[i] = cmp.Or(entries[i].First("sAMAccountName"), entries[i].First("uid"), entries[i].DN)
	}
	return names
}

// FindingNames are what commands call the entries of findings; what is no entry is left
// out.
func FindingNames(findings []audit.Finding) (names []string) {
	for i := range findings {
		f := &findings[i]
		switch {
		case !f.AboutEntry():
		case signsIn[f.Kind] && f.Account != "":
			names = append(names, f.Account)
		default:
			names = append(names, f.DN)
		}
	}
	return names
}
