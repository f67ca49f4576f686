package settings

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"yardbroom/internal/pattern"
	"yardbroom/internal/whole"
)

// NewYard is a yard that is to be added to a settings file, and what belongs to it
// elsewhere in the file.
type NewYard struct {
	Name string
	Yard Yard
	// About says what was found, for a comment: "Samba AD DC, 524 accounts".
	About string
	// CouldScope and CouldLeaveOut are proposals that nobody has taken: they are written
	// as comments.
	CouldScope, CouldLeaveOut []string
	Parking                   []string
}

// ErrByHand says that a settings file is laid out so that nothing can be added to it but
// by hand.
var ErrByHand = errors.New("its yards do not stand in lines of their own, so this has to be added by hand")

// AddYard writes a yard into a settings file, or a new file. What stands there stays as
// it is, comments too. Left is what has to be added by hand, "" for nothing.
func AddYard(file string, n *NewYard) (left string, err error) {
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	if len(text) == 0 {
		lines = []string{"# The settings of yardbroom; docs/settings.md tells what else there is.", "default: " + quoteYAML(n.Name), "yards:"}
	}
	at := slices.IndexFunc(lines, blockKey("yards").MatchString)
	if at < 0 {
		if hasKey(lines, "yards") {
			return n.block("  "), ErrByHand
		}
		lines = append(lines, "yards:")
		at = len(lines) - 1
	}
	indent := "  "
	for _, l := range lines[at+1:] {
		if trimmed := strings.TrimLeft(l, " "); trimmed != "" && trimmed[0] != '#' {
			if trimmed != l {
				indent = l[:len(l)-len(trimmed)]
			}
			break
		}
	}
	lines = slices.Insert(lines, at+1, strings.TrimRight(n.block(indent), "\n"))
	before, err := LoadIfAny(file)
	if err != nil {
		return "", err
	}
	missing := func(dn string) bool {
		return !slices.ContainsFunc(before.Audit.Parking, func(is string) bool { return strings.EqualFold(is, dn) })
	}
	if slices.ContainsFunc(n.Parking, missing) {
		parking := "parking: " + listYAML(n.Parking)
		switch i := slices.IndexFunc(lines, blockKey("audit").MatchString); {
		case i < 0 && !hasKey(lines, "audit"):
			lines = append(lines, "audit:", "  # where disabled accounts are kept until they are deleted", "  "+parking)
		default:
			left = "audit: {" + parking + "}"
		}
	}
	if len(before.Yards) == 1 && before.Default != "" && !hasKey(lines, "default") {
		lines = slices.Insert(lines, 0, "default: "+quoteYAML(before.Default)) // which it was as the only one
	}
	return left, replace(file, strings.Join(lines, "\n")+"\n")
}

// replace writes a settings file that has been read once, so that none is left that
// cannot be.
func replace(file, text string) error {
	trial := filepath.Join(filepath.Dir(file), ".new-"+filepath.Base(file))
	write := func(path string) error {
		return whole.Write(path, func(w io.Writer) error {
			_, err := io.WriteString(w, text)
			return err
		})
	}
	if err := write(trial); err != nil {
		return err
	}
	defer os.Remove(trial)
	if _, err := Load(trial); err != nil {
		return fmt.Errorf("%s would not be right with it, so it was left as it is: %w", file, err)
	}
	return write(file)
}

// hasKey tells whether a key stands at the top of a file, whatever its value.
func hasKey(lines []string, key string) bool {
	return slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, key+":") })
}

// blockKey matches the line of a key whose value stands below it.
func blockKey(key string) *regexp.Regexp {
	return regexp.MustCompile(`^` + key + `:\s*(#.*)?$`)
}

// block is the yard as lines below yards.
func (n *NewYard) block(indent string) string {
	var b strings.Builder
	line := func(depth int, format string, args ...any) {
		fmt.Fprintf(&b, "%s%s\n", strings.Repeat(indent, depth), fmt.Sprintf(format, args...))
	}
	y := &n.Yard
	line(1, "%s: # %s", quoteYAML(n.Name), strings.ReplaceAll(n.About, "\n", " "))
	line(2, "servers: %s", listYAML(y.Servers))
	line(2, "base: %s", quoteYAML(y.Base))
	for _, one := range []struct {
		key, why   string
		set, could []string
	}{
		{"scope", "only these OUs get findings and may be changed; without it, all below the base", y.Scope, n.CouldScope},
		{"leave_out", "accounts of services: they get no findings and are never changed", y.LeaveOut, n.CouldLeaveOut},
	} {
		switch {
		case len(one.set) > 0:
			line(2, "# %s", one.why)
			line(2, "%s: %s", one.key, listYAML(one.set))
		case len(one.could) > 0:
			line(2, "# %s", one.why)
			line(2, "# %s: %s", one.key, listYAML(one.could))
		}
	}
	if bind := bindYAML(&y.Bind); bind != "" {
		line(2, "bind: {%s}", bind)
	}
	if y.CAFile != "" {
		line(2, "ca_file: %s # whose certificates are trusted", quoteYAML(y.CAFile))
	}
	if y.StartTLS {
		line(2, "starttls: true")
	}
	if y.Dialect != "" {
		line(2, "dialect: %s", y.Dialect)
	}
	return b.String()
}

func bindYAML(b *Bind) string {
	var parts []string
	for _, one := range []struct{ key, value string }{{"dn", b.DN}, {"password_file", b.PasswordFile}, {"password_env", b.PasswordEnv}, {"password_command", b.PasswordCommand}} {
		if one.value != "" {
			parts = append(parts, one.key+": "+quoteYAML(one.value))
		}
	}
	if b.Ask {
		parts = append(parts, "ask: true")
	}
	if b.Kerberos {
		parts = append(parts, "kerberos: true")
	}
	return strings.Join(parts, ", ")
}

var plainYAML = pattern.Lazy(`^[A-Za-z][A-Za-z0-9_./-]*$`)

// quoteYAML writes a text so that YAML reads it as that.
func quoteYAML(text string) string {
	if plainYAML().MatchString(text) && !slices.Contains([]string{"true", "false", "yes", "no", "on", "off", "null", "y", "n"}, strings.ToLower(text)) {
		return text
	}
	out, err := yaml.MarshalWithOptions(text, yaml.JSON())
	if err != nil {
		return fmt.Sprintf("%q", text)
	}
	return strings.TrimRight(string(out), "\n")
}

func listYAML(all []string) string {
	quoted := make([]string, len(all))
	for i, one := range all {
		quoted[i] = quoteYAML(one)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
