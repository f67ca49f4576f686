package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/whole"
)

func passwordFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "passwords", Usage: "for reset-password: a new `FILE` for the new passwords, readable by its owner only"},
		&cli.StringSliceFlag{Name: "passwords-for", Usage: "encrypt that file (age) for a `RECIPIENT`: age1…, an SSH public key, or a file of them"},
	}
}

// passwords is the file that new passwords are delivered into. It is written
// whole after each of them, before the password is set.
type passwords struct {
	path       string
	recipients []age.Recipient

	mu   sync.Mutex
	rows [][]string
}

// passwordFile returns where new passwords go, nil where nobody said.
func passwordFile(cmd *cli.Command) (*passwords, error) {
	p := &passwords{path: cmd.String("passwords"), rows: [][]string{{"account", "password", "dn"}}}
	if p.path == "" {
		if cmd.IsSet("passwords-for") {
			return nil, usage("--passwords-for goes with --passwords")
		}
		return nil, nil
	}
	if _, err := os.Lstat(p.path); !errors.Is(err, fs.ErrNotExist) {
		return nil, usage("--passwords %s: there is something of that name; name a new file", p.path)
	}
	for _, word := range cmd.StringSlice("passwords-for") {
		r, err := recipients(word)
		if err != nil {
			return nil, usage("--passwords-for: %w", err)
		}
		p.recipients = append(p.recipients, r...)
	}
	return p, nil
}

// recipients reads one recipient, or a file of them.
func recipients(word string) ([]age.Recipient, error) {
	if !strings.HasPrefix(word, "age1") && !strings.HasPrefix(word, "ssh-") {
		text, err := os.ReadFile(word)
		if err != nil {
			return nil, fmt.Errorf("%q is no recipient, and no file of them: %w", word, err)
		}
		var all []age.Recipient
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			r, err := recipient(line)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", word, err)
			}
			all = append(all, r)
		}
		if len(all) == 0 {
			return nil, fmt.Errorf("%s names no recipient", word)
		}
		return all, nil
	}
	r, err := recipient(word)
	return []age.Recipient{r}, err
}

func recipient(text string) (age.Recipient, error) {
	if strings.HasPrefix(text, "ssh-") {
		return agessh.ParseRecipient(text)
	}
	all, err := age.ParseRecipients(strings.NewReader(text))
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// deliver adds a password to the file.
func (p *passwords) deliver(l *batch.Line, password string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.rows = append(p.rows, []string{render.SafeCell(l.Account), password, render.SafeCell(l.DN)})
	return whole.Write(p.path, func(w io.Writer) error {
		if len(p.recipients) == 0 {
			return p.write(w)
		}
		sealed, err := age.Encrypt(w, p.recipients...)
		if err != nil {
			return err
		}
		return errors.Join(p.write(sealed), sealed.Close())
	})
}

func (p *passwords) write(w io.Writer) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	return out.WriteAll(p.rows)
}
