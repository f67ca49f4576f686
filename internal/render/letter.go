package render

import (
	_ "embed"
	"html/template"
	"io"
	"strings"
	"sync"

	"yardbroom/internal/ladder"
)

//go:embed letter.html
var letterPage string

var letterTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("letter").Funcs(template.FuncMap{"visible": Visible}).Parse(letterPage))
})

// WriteLetter writes a mail of a ladder as a page: its words, and the accounts as a
// table.
func WriteLetter(w io.Writer, l *ladder.Letter, subject, text string) error {
	data := l.Data()
	page := struct {
		Subject       string
		Before, After []string
		Accounts      []ladder.LetterAccount
	}{Subject: subject, Accounts: data.Accounts}
	before := true
	for part := range strings.SplitSeq(text, "\n\n") {
		switch part = strings.TrimRight(part, "\n"); {
		case strings.HasPrefix(strings.TrimLeft(part, "\n"), "  "): // the accounts
			before = false
		case strings.TrimSpace(part) == "":
		case before:
			page.Before = append(page.Before, strings.TrimSpace(part))
		default:
			page.After = append(page.After, strings.TrimSpace(part))
		}
	}
	return letterTemplate().Execute(w, page)
}
