package mail

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	netmail "net/mail"
	"slices"
	"strings"

	mime "github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // the encodings that people write in
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"yardbroom/internal/pattern"
)

// Incoming is a mail that came in, as far as it may be an answer to one that was sent.
type Incoming struct {
	ID      string // its Message-ID, without brackets
	From    string // the address that it says it is from, "" where that is none, or several
	Subject string
	// Answers are the Message-IDs of mails that it answers, without brackets.
	Answers []string
	// Typed is what its sender has written, Quoted what they only quote.
	Typed, Quoted string
	// Automatic tells that no person has written it (RFC 3834), Failed that it is a
	// report that mails could not be delivered (RFC 3464): Returned are their
	// Message-IDs.
	Automatic, Failed bool
	Returned          []string
}

// mostMail is how much of a mail is read, mostParts how many parts of it, mostNested how
// deep they may be in each other.
const (
	mostMail   = 8 << 20
	mostText   = 1 << 20
	mostParts  = 50
	mostNested = 8
)

// ReadIncoming reads a mail.
func ReadIncoming(r io.Reader) (*Incoming, error) {
	e, err := mime.Read(bufio.NewReader(io.LimitReader(r, mostMail)))
	if e == nil || err != nil && !mime.IsUnknownCharset(err) && !mime.IsUnknownEncoding(err) {
		return nil, fmt.Errorf("it is no mail: %w", err)
	}
	in := &incoming{}
	in.head(&e.Header)
	if err := in.part(e, 0); err != nil {
		return nil, err
	}
	if in.text == "" {
		in.text, in.Quoted = in.page, in.pageQuoted
	}
	typed, quoted := apart(in.text)
	in.Typed, in.Quoted = typed, in.Quoted+quoted
	return &in.Incoming, nil
}

type incoming struct {
	Incoming
	text             string // of all plain parts
	page, pageQuoted string // of all HTML parts
	parts            int
	report           bool
	failed           bool
}

// head reads who has written, and whether anybody has.
func (in *incoming) head(h *mime.Header) {
	text := func(name string) string {
		v, err := h.Text(name)
		if err != nil {
			v = h.Get(name)
		}
		return v
	}
	in.Subject = text("Subject")
	if from, err := netmail.ParseAddressList(h.Get("From")); err == nil && len(from) == 1 && len(h.Values("From")) == 1 {
		in.From = from[0].Address
	}
	in.Answers = ids(h.Get("In-Reply-To") + " " + h.Get("References"))
	if own := ids(h.Get("Message-Id")); len(own) > 0 {
		in.ID = own[0]
	}
	has := func(name string, words ...string) bool {
		v := strings.ToLower(strings.TrimSpace(h.Get(name)))
		return v != "" && (len(words) == 0 || slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(v, w) }))
	}
	submitted := strings.ToLower(strings.TrimSpace(h.Get("Auto-Submitted")))
	in.Automatic = submitted != "" && !strings.HasPrefix(submitted, "no") ||
		has("Precedence", "bulk", "junk", "list", "auto") || has("X-Autoreply") || has("X-Autorespond") || has("List-Id") ||
		has("X-Auto-Response-Suppress", "all", "oof") || has("Return-Path", "<>") ||
		slices.ContainsFunc(automaticSubjects, func(p string) bool { return strings.HasPrefix(strings.ToLower(in.Subject), p) }) ||
		slices.ContainsFunc([]string{"mailer-daemon@", "postmaster@", "noreply@", "no-reply@"}, func(p string) bool {
			return strings.HasPrefix(strings.ToLower(in.From), p)
		})
}

// automaticSubjects begin the answers of programs that do not say that they are any.
var automaticSubjects = []string{"automatic reply:", "auto reply:", "out of office", "abwesenheitsnotiz", "automatische antwort:", "réponse automatique"}

var messageIDs = pattern.Lazy(`<([^<>\s]+)>`)

func ids(text string) (all []string) {
	for _, m := range messageIDs().FindAllStringSubmatch(text, 50) {
		all = append(all, m[1])
	}
	return all
}

// part reads a part of a mail, and those in it.
func (in *incoming) part(e *mime.Entity, depth int) error {
	if in.parts++; in.parts > mostParts || depth > mostNested {
		return errors.New("it has more parts than any answer")
	}
	kind, params, err := e.Header.ContentType()
	if err != nil {
		kind = "text/plain"
	}
	if depth == 0 && kind == "multipart/report" {
		in.Automatic, in.report = true, strings.EqualFold(params["report-type"], "delivery-status")
	}
	if parts := e.MultipartReader(); parts != nil {
		for {
			p, err := parts.NextPart()
			if errors.Is(err, io.EOF) {
				break
			}
			if p == nil || err != nil && !mime.IsUnknownCharset(err) && !mime.IsUnknownEncoding(err) {
				return nil // cut off: what came counts
			}
			if err := in.part(p, depth+1); err != nil {
				return err
			}
		}
		if depth == 0 {
			in.Failed = in.report && in.failed && len(in.Returned) > 0
		}
		return nil
	}
	if disposition, _, err := e.Header.ContentDisposition(); err == nil && disposition == "attachment" && !in.report {
		return nil
	}
	return in.leaf(kind, e)
}

// leaf reads a part that has none.
func (in *incoming) leaf(kind string, e *mime.Entity) error {
	if !strings.HasPrefix(kind, "text/") && !strings.HasPrefix(kind, "message/") {
		return nil
	}
	raw, err := io.ReadAll(io.LimitReader(e.Body, mostText))
	if err != nil && len(raw) == 0 {
		return nil // broken in this part: it says nothing
	}
	body := strings.ToValidUTF8(string(raw), "\uFFFD")
	switch kind {
	case "text/plain":
		in.text += body + "\n"
	case "text/html":
		typed, quoted := pageText(body)
		in.page, in.pageQuoted = in.page+typed+"\n", in.pageQuoted+quoted+"\n"
	case "message/delivery-status":
		in.failed = in.failed || actionFailed().MatchString(body)
	case "message/rfc822", "text/rfc822-headers", "message/rfc822-headers", "message/global":
		if in.report {
			in.Returned = append(in.Returned, returned(body)...)
		}
	}
	return nil
}

var (
	actionFailed = pattern.Lazy(`(?im)^action:\s*failed\b`)
	returnedID   = pattern.Lazy(`(?im)^message-id:\s*<([^<>\s]+)>`)
)

// returned is the Message-ID of a mail that is returned, of its head only.
func returned(text string) []string {
	head, _, _ := strings.Cut(strings.ReplaceAll(text, "\r\n", "\n"), "\n\n")
	if m := returnedID().FindStringSubmatch(head); m != nil {
		return []string{m[1]}
	}
	return nil
}

var (
	// separator begins what mail readers append without marking each line.
	separator = pattern.Lazy(`^\s*(-{2,}\s*\pL[\pL\s]*-{2,}|_{10,})\s*$`)
	// headLine is the first line of a head that is quoted so.
	headLine = pattern.Lazy(`^\s*[*>]*\s*(From|Von|De|Da|Van|Från|Fra|Od|Lähettäjä|Remitente)\s?:\s?\*?\s*.*@`)
)

// apart takes apart what somebody has typed and what they quote.
func apart(text string) (typed, quoted string) {
	var t, q strings.Builder
	below := false // what was appended
	for line := range strings.Lines(strings.ReplaceAll(text, "\r\n", "\n")) {
		below = below || separator().MatchString(line) || headLine().MatchString(line)
		if below || strings.HasPrefix(strings.TrimLeft(line, " "), ">") {
			q.WriteString(line)
			continue
		}
		t.WriteString(line)
	}
	return t.String(), q.String()
}

// pageText is the text of a page, apart from what it quotes.
func pageText(page string) (typed, quoted string) {
	var t, q strings.Builder
	z := html.NewTokenizer(strings.NewReader(page))
	skip, quote := 0, 0
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			return t.String(), q.String()
		}
		out := &t
		if quote > 0 {
			out = &q
		}
		token := z.Token()
		switch kind {
		case html.TextToken:
			if skip == 0 {
				out.WriteString(token.Data)
			}
		case html.StartTagToken:
			switch token.DataAtom {
			case atom.Style, atom.Script, atom.Head, atom.Title:
				skip++
			case atom.Blockquote:
				quote++
			case atom.Div:
				if quote > 0 || slices.ContainsFunc(token.Attr, isQuote) {
					quote++
				}
				out.WriteByte('\n')
			case atom.P, atom.Tr, atom.Li, atom.Br:
				out.WriteByte('\n')
			}
		case html.EndTagToken:
			switch token.DataAtom {
			case atom.Style, atom.Script, atom.Head, atom.Title:
				skip = max(skip-1, 0)
			case atom.Blockquote, atom.Div:
				quote = max(quote-1, 0)
				out.WriteByte('\n')
			}
		case html.SelfClosingTagToken:
			out.WriteByte('\n')
		}
	}
}

// isQuote tells whether a mail reader marks a part of a page as quoted.
func isQuote(a html.Attribute) bool {
	return (a.Key == "class" || a.Key == "id") && strings.Contains(strings.ToLower(a.Val), "quote") ||
		a.Key == "id" && (a.Val == "divRplyFwdMsg" || a.Val == "appendonsend")
}
