package reconcile

import (
	"strings"
	"sync"
	"unicode"

	"yardbroom/internal/directory"
)

// impersonal are words in the names of accounts that are no person's, by what
// they tell of.
var impersonal = sync.OnceValue(func() map[string]string {
	all := map[string]string{}
	for line := range strings.Lines(`a service account: svc srv service services backup sql database db daemon agent bot robot sync scheduler task batch monitor monitoring scan replication ldap smtp ftp web www proxy vpn api app noreply dienst servicio servizio
a shared mailbox: office reception frontdesk desk info contact helpdesk support sales team mailbox shared postmaster webmaster hostmaster orders billing invoices newsletter empfang zentrale accueil secretariat recepcion segreteria ufficio
a room or device: room meeting conference auditorium printer print scanner copier fax kiosk display camera projector phone door sensor besprechung sitzungssaal drucker salle imprimante sala impresora stampante
a test or training account: test tests testing tester demo training trainee schulung kurs formation prueba prova essai dummy template sample
a guest or temporary account: guest gast invite visitor visitors temp temporary intern aushilfe stagiaire
`) {
		what, words, _ := strings.Cut(strings.TrimSpace(line), ":")
		for word := range strings.FieldsSeq(words) {
			all[word] = what
		}
	}
	return all
})

// Impersonal tells what an account looks like that seems to be no person's: it
// has no given name, and its logon name or display name has a word for a
// service, a mailbox, a room and the like. It returns "" for any other.
func Impersonal(a *directory.Account) string {
	if a.Text.First(directory.AttrGivenName) != "" {
		return ""
	}
	for _, name := range []string{a.Logon, a.Text.First(directory.AttrDisplayName)} {
		words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !unicode.IsLetter(r) })
		for _, word := range words {
			if what := impersonal()[word]; what != "" {
				return what
			}
		}
	}
	return ""
}
