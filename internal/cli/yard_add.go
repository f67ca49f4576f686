package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/pattern"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) yardAddCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "look a directory over and write it into the settings", ArgsUsage: "[NAME]",
		Description: help("yard_add"),
		Flags: append(serverFlags(),
			&cli.StringSliceFlag{Name: "server", Usage: "the directory: a `SERVER` (its name or URL), or a domain whose servers DNS names; may be given several times"},
			&cli.StringFlag{Name: "fingerprint", Usage: "trust the authority of a server whose certificate has this SHA-256 `FINGERPRINT`"},
			&cli.StringSliceFlag{Name: "scope", Usage: "only this `OU` is in your care; may be given several times"},
			&cli.StringSliceFlag{Name: "leave-out", Usage: "nothing in this `OU`; may be given several times"},
			&cli.StringSliceFlag{Name: "parking", Usage: "disabled accounts are kept in this `OU`; may be given several times"},
			&cli.BoolFlag{Name: "yes", Usage: "take what is proposed and ask nothing"},
		),
		Action: a.yardAdd,
	}
}

// newYard is a yard on its way into the settings.
type newYard struct {
	*app
	cmd   *cli.Command
	in    *bufio.Reader // a person, nil where nobody is to be asked
	yard  settings.Yard
	new   settings.NewYard
	greet *source.Greeting
	found *work.Found
	file  string            // the settings file
	keep  map[string][]byte // files beside it: certificates, and a password
}

func (a *app) yardAdd(ctx context.Context, cmd *cli.Command) error {
	if cmd.NArg() > 1 {
		return usage("give one name for the yard, not %q too", cmd.Args().Get(1))
	}
	n := &newYard{app: a, cmd: cmd, file: a.settingsFile, keep: map[string][]byte{}}
	if terminal, ok := a.terminal(); ok && !cmd.Bool("yes") {
		n.in = bufio.NewReader(terminal)
	}
	for _, step := range []func(context.Context) error{n.reach, n.choose, n.signIn, n.lookOver, n.decide, n.write} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	if err := a.open(n.file, a.work.State); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Written to %s: the yard %s. It is tested:\n\n", render.Visible(n.file), render.Visible(n.new.Name))
	if err := a.testYard(ctx, cmd, work.From{Where: n.new.Name}); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "\nLook what is there: yardbroom audit%s\n", n.fromOption())
	return nil
}

// fromOption is what names the yard, where it is not the default.
func (n *newYard) fromOption() string {
	if n.work.Settings.Default == n.new.Name {
		return ""
	}
	return " --from " + n.new.Name
}

// asks asks a person for a line. An empty answer is the usual one.
func (n *newYard) asks(question, usual string) (string, error) {
	if n.in == nil {
		return usual, nil
	}
	if n.progress.clear(); usual != "" {
		question += " [" + usual + "]"
	}
	space := len(question) - len(strings.TrimLeft(question, "\n"))
	fmt.Fprintf(n.err, "%s%s: ", question[:space], render.Visible(question[space:]))
	answer, err := n.in.ReadString('\n')
	if answer = strings.TrimSpace(answer); answer == "" {
		answer = usual
	}
	if err != nil && answer == "" {
		return "", errors.New("stopped: nothing was written")
	}
	return answer, nil
}

// confirms asks yes or no.
func (n *newYard) confirms(question string, usual bool) (bool, error) {
	answer, err := n.asks(question, map[bool]string{true: "yes", false: "no"}[usual])
	return strings.HasPrefix(strings.ToLower(answer), "y"), err
}

// says tells something meanwhile.
func (n *newYard) says(format string, args ...any) { n.note(format, args...) }

// reach finds the servers, and settles whether to trust what they show.
func (n *newYard) reach(ctx context.Context) error {
	names := n.cmd.StringSlice("server")
	if len(names) == 0 {
		answer, err := n.asks("Server, or the domain whose servers DNS names (dc1.larkmoor.example, larkmoor.example)", "")
		if err != nil {
			return err
		}
		names = strings.Fields(answer)
	}
	if len(names) == 0 {
		return usage("say which directory with --server: a server's name or URL, or a domain")
	}
	n.yard = settings.Yard{CAFile: n.cmd.String("ca-file"), StartTLS: n.cmd.Bool("starttls"), Dialect: n.cmd.String("dialect")}
	if n.yard.CAFile != "" {
		full, err := filepath.Abs(n.yard.CAFile)
		if err != nil {
			return err
		}
		n.yard.CAFile = full
	}
	for _, name := range names {
		urls, byDNS := n.work.FindServers(ctx, lookupDNS, name)
		if byDNS {
			n.says("DNS names %s for %s", wording.List(urls), name)
		}
		n.yard.Servers = append(n.yard.Servers, urls...)
	}
	greet, doubt, err := n.work.Greet(ctx, &n.yard)
	if err != nil {
		return err
	}
	if n.greet = greet; doubt == nil {
		return nil
	}
	if err := n.trust(doubt); err != nil {
		return err
	}
	ca, done, err := n.temporary("ca.pem")
	if err != nil {
		return err
	}
	defer done()
	trial := n.yard
	trial.CAFile = ca
	if n.greet, doubt, err = n.work.Greet(ctx, &trial); err == nil && doubt != nil {
		err = errors.New("the server shows another certificate now: nothing was written")
	}
	return err
}

// trust settles whether an unknown certificate is trusted, and keeps what of it is.
func (n *newYard) trust(d *work.Doubt) error {
	what := "the authority that signed it"
	if d.Self {
		what = "this certificate itself, which is signed by nobody known here"
	}
	names := append(slices.Clone(d.Server.DNSNames), addresses(d.Server.IPAddresses)...)
	slices.Sort(names)
	shown := fmt.Sprintf("%s shows a certificate that leads to no authority known on this machine:\n"+
		"  for      %s\n  by       %s\n  valid    %s to %s\n  SHA-256  %s",
		n.yard.Servers[0], wording.List(slices.Compact(names)), d.Server.Issuer,
		d.Server.NotBefore.Format(time.DateOnly), d.Server.NotAfter.Format(time.DateOnly), work.Fingerprint(d.Server))
	switch typed := n.cmd.String("fingerprint"); {
	case typed != "" && work.SameFingerprint(d.Server, typed):
	case typed != "":
		return fmt.Errorf("%s\nThat is not the fingerprint that was given: nothing was written", shown)
	case n.in == nil:
		return fmt.Errorf("%s\nGive the authority's certificate with --ca-file, or --fingerprint with the SHA-256 of the server's, once you have compared it at the server", shown)
	default:
		for line := range strings.SplitSeq(shown, "\n") {
			fmt.Fprintln(n.err, render.Visible(line))
		}
		yes, err := n.confirms("Compare the SHA-256 at the server itself. Trust "+what+" from now on", false)
		if err != nil {
			return err
		}
		if !yes {
			return errors.New("the certificate is not trusted: nothing was written")
		}
	}
	n.keep["ca.pem"] = d.PEM()
	return nil
}

func addresses(all []net.IP) (texts []string) {
	for _, ip := range all {
		texts = append(texts, ip.String())
	}
	return texts
}

// temporary writes one of the files to keep where it can be used before it is kept.
func (n *newYard) temporary(name string) (path string, done func(), err error) {
	dir, err := os.MkdirTemp("", "yardbroom-")
	if err != nil {
		return "", nil, err
	}
	path = filepath.Join(dir, name)
	return path, func() { os.RemoveAll(dir) }, os.WriteFile(path, n.keep[name], 0o600)
}

// choose settles which of the server's directories it is, and what to call the yard.
func (n *newYard) choose(context.Context) (err error) {
	bases := n.greet.Bases
	if n.yard.Base = n.cmd.String("base"); n.yard.Base == "" && len(bases) > 0 {
		question := "Base, of " + wording.List(bases)
		if len(bases) == 1 {
			n.yard.Base = bases[0]
		} else if n.yard.Base, err = n.asks(question, ""); err != nil {
			return err
		}
	}
	if n.yard.Base == "" {
		return usage("say with --base which DN to read from%s", map[bool]string{true: ": one of " + wording.List(bases)}[len(bases) > 0])
	}
	n.says("%s holds %s (dialect %s)", n.yard.Servers[0], n.yard.Base, n.greet.Dialect.Name)
	usual := yardName(n.yard.Base)
	if n.new.Name = n.cmd.Args().First(); n.new.Name == "" {
		if n.new.Name, err = n.asks("What to call it", usual); err != nil {
			return err
		}
	}
	if !goodName().MatchString(n.new.Name) {
		return usage("%q cannot name a yard: use letters, digits, dashes and dots", n.new.Name)
	}
	if _, there := n.work.Settings.Yards[n.new.Name]; there {
		return usage("there is a yard %s already in %s: give another name, or change it there", n.new.Name, n.file)
	}
	return nil
}

var goodName = pattern.Lazy(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

// yardName is a name for a yard by its base: the first label of its domain.
func yardName(base string) string {
	if label, _, _ := strings.Cut(source.DomainOf(base), "."); label != "" {
		return label
	}
	return "main"
}

// signIn settles as whom to sign in, and where the password comes from.
func (n *newYard) signIn(context.Context) (err error) {
	b := &n.yard.Bind
	*b = settings.Bind{DN: n.cmd.String("bind"), PasswordEnv: n.cmd.String("password-env"), PasswordCommand: n.cmd.String("password-command"), Kerberos: n.cmd.Bool("kerberos")}
	if file := n.cmd.String("password-file"); file != "" {
		if b.PasswordFile, err = filepath.Abs(file); err != nil {
			return err
		}
	}
	if b.DN == "" && !b.Kerberos {
		if n.in == nil {
			return usage("say with --bind as whom to sign in, and with --password-file, --password-env or --password-command where the password is")
		}
		if b.DN, err = n.asks("Sign in as (a name such as auditor@larkmoor.example, or a DN)", ""); err != nil {
			return err
		}
	}
	if b.DN == "" || b.Kerberos || b.PasswordFile != "" || b.PasswordEnv != "" || b.PasswordCommand != "" {
		return nil
	}
	if n.in == nil {
		return usage("say with --password-file, --password-env or --password-command where the password of %s is", b.DN)
	}
	password, err := n.ask()("Password for " + b.DN + ": ")
	if err != nil {
		return err
	}
	if password == "" {
		return errors.New("the password is empty: nothing was written")
	}
	n.keep["password"] = []byte(password + "\n")
	return nil
}

// lookOver signs in, reads everything and says what was found.
func (n *newYard) lookOver(ctx context.Context) (err error) {
	trial := n.yard
	for name, use := range map[string]func(string){"ca.pem": func(p string) { trial.CAFile = p }, "password": func(p string) { trial.Bind.PasswordFile = p }} {
		if n.keep[name] == nil {
			continue
		}
		path, done, err := n.temporary(name)
		if err != nil {
			return err
		}
		defer done()
		use(path)
	}
	if n.found, err = n.work.LookOver(ctx, trial, n.ask()); err != nil {
		return err
	}
	n.says("%s, %s", n.found.Identity, wording.Count(n.found.Accounts, "account"))
	return nil
}

// decide settles what is in somebody's care, and where what is parked.
func (n *newYard) decide(context.Context) (err error) {
	f := n.found
	if len(f.Others) > 0 {
		if n.in == nil {
			n.says("The directory has other servers, and each keeps sign-ins of its own: %s; name them with --server too, so that a last sign-in is sure", wording.List(f.Others))
		}
		add, err := n.confirms("Each server keeps sign-ins of its own. Ask "+wording.List(f.Others)+" too", n.in != nil)
		if err != nil {
			return err
		}
		if add {
			n.yard.Servers = append(n.yard.Servers, f.Others...)
		}
	}
	if n.yard.Scope = n.cmd.StringSlice("scope"); len(n.yard.Scope) == 0 && len(f.Units) > 1 {
		if n.yard.Scope, err = n.pickUnits("Accounts are in these OUs:", "Which are in your care: numbers, or all of the directory", f.Units, false); err != nil {
			return err
		}
	}
	if n.new.Parking = n.cmd.StringSlice("parking"); len(n.new.Parking) == 0 && len(f.Parking) > 0 {
		if n.new.Parking, err = n.pickUnits("Disabled accounts seem to be kept here:", "Is that where they belong: numbers, all or none", f.Parking, true); err != nil {
			return err
		}
	}
	if n.yard.LeaveOut = n.cmd.StringSlice("leave-out"); len(n.yard.LeaveOut) == 0 && len(f.Services) > 0 && n.in != nil {
		n.listUnits("Accounts of services seem to be here:", f.Services)
		leave, err := n.asks("Leave them alone, without findings: numbers, all or none", "none")
		if err != nil {
			return err
		}
		if n.yard.LeaveOut, err = chosenUnits(leave, f.Services); err != nil {
			return err
		}
	}
	if len(n.yard.Scope) == 0 {
		n.new.CouldScope = dnsOf(f.Units)
	}
	if len(n.yard.LeaveOut) == 0 {
		n.new.CouldLeaveOut = dnsOf(f.Services)
	}
	if n.keep["password"] != nil {
		keep, err := n.confirms("\nKeep the password in a file beside the settings, readable only by you", true)
		if err != nil {
			return err
		}
		if n.yard.Bind.PasswordFile = n.new.Name + ".password"; !keep {
			n.yard.Bind.PasswordFile, n.yard.Bind.Ask = "", true
			delete(n.keep, "password")
		}
	}
	if n.keep["ca.pem"] != nil {
		n.yard.CAFile = n.new.Name + "-ca.pem"
	}
	return nil
}

// pickUnits asks which of some OUs are meant. Where nobody is asked, it is all of them or,
// where that says the same, none.
func (n *newYard) pickUnits(title, question string, units []work.FoundUnit, named bool) ([]string, error) {
	if n.in != nil {
		n.listUnits(title, units)
	}
	answer, err := n.asks(question, "all")
	if err != nil || answer == "all" && !named {
		return nil, err
	}
	return chosenUnits(answer, units)
}

func (n *newYard) listUnits(title string, units []work.FoundUnit) {
	fmt.Fprintf(n.err, "\n%s\n", title)
	for i, u := range units {
		about := wording.Count(u.Accounts, "account")
		if u.Disabled > 0 {
			about += fmt.Sprintf(", %d disabled", u.Disabled)
		}
		if u.Services > 0 {
			about += fmt.Sprintf(", %d of services", u.Services)
		}
		fmt.Fprintf(n.err, "  %d  %s (%s)\n", i+1, render.Visible(u.DN), about)
	}
}

// chosenUnits are the OUs that numbers name.
func chosenUnits(answer string, units []work.FoundUnit) (chosen []string, err error) {
	switch strings.ToLower(answer) {
	case "none", "no":
		return nil, nil
	case "all", "yes":
		return dnsOf(units), nil
	}
	for word := range strings.FieldsFuncSeq(answer, func(r rune) bool { return r == ',' || r == ' ' }) {
		i, err := strconv.Atoi(word)
		if err != nil || i < 1 || i > len(units) {
			return nil, usage("%q is none of the numbers 1 to %d: nothing was written", word, len(units))
		}
		chosen = append(chosen, units[i-1].DN)
	}
	return chosen, nil
}

func dnsOf(units []work.FoundUnit) (dns []string) {
	for _, u := range units {
		dns = append(dns, u.DN)
	}
	return dns
}

// write writes the files. Where not all can be written, none is.
func (n *newYard) write(context.Context) (err error) {
	var written []string
	defer func() {
		if err != nil {
			for _, path := range written {
				os.Remove(path)
			}
		}
	}()
	dir := filepath.Dir(n.file)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for name, path := range map[string]string{"ca.pem": n.yard.CAFile, "password": n.yard.Bind.PasswordFile} {
		if n.keep[name] == nil {
			continue
		}
		path = filepath.Join(dir, path)
		if _, err := os.Lstat(path); err == nil {
			return fmt.Errorf("%s is there already: move it away, or give the yard another name", path)
		}
		err := whole.Write(path, func(w io.Writer) error {
			_, err := w.Write(n.keep[name])
			return err
		})
		if err != nil {
			return err
		}
		written = append(written, path)
	}
	n.new.Yard, n.new.About = n.yard, fmt.Sprintf("%s, %s when it was added", n.found.Dialect, wording.Count(n.found.Accounts, "account"))
	left, err := settings.AddYard(n.file, &n.new)
	if errors.Is(err, settings.ErrByHand) {
		return fmt.Errorf("%s: %w:\n%s", n.file, err, left)
	}
	if err == nil && left != "" {
		n.says("add this to %s by hand, where it is not there: %s", n.file, left)
	}
	return err
}

// lookupDNS asks DNS, within its patience.
func lookupDNS(ctx context.Context, service, proto, name string) (string, []*net.SRV, error) {
	ctx, stop := context.WithTimeout(ctx, dnsPatience)
	defer stop()
	return net.DefaultResolver.LookupSRV(ctx, service, proto, name)
}
