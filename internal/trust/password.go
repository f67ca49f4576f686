package trust

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Kept says where a password is kept: in the first line of a file, in an
// environment variable, or with a command that prints it.
type Kept struct{ File, Env, Command string }

// Nowhere tells whether it is kept nowhere.
func (k Kept) Nowhere() bool { return k == Kept{} }

// credentials is the variable that names the folder in which systemd hands a
// service its secrets (LoadCredential).
const credentials = "CREDENTIALS_DIRECTORY"

// Read reads the password. A service that was handed a credential by the name of
// the file is given that.
func (k Kept) Read(ctx context.Context) (string, error) {
	Hide()
	switch {
	case k.File != "":
		if folder := os.Getenv(credentials); folder != "" {
			if text, err := os.ReadFile(filepath.Join(folder, filepath.Base(k.File))); err == nil {
				return firstLine(text), nil
			}
		}
		text, err := ReadSecret(k.File)
		if err != nil {
			return "", fmt.Errorf("password_file: %w", err)
		}
		return firstLine(text), nil
	case k.Env != "":
		password, ok := os.LookupEnv(k.Env)
		if !ok {
			return "", fmt.Errorf("password_env: the variable %s is not set", k.Env)
		}
		return password, nil
	}
	cmd := exec.CommandContext(ctx, "sh", "-c", k.Command)
	cmd.Stderr = os.Stderr
	text, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("password_command: %w", err)
	}
	return firstLine(text), nil
}

func firstLine(text []byte) string {
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSuffix(line, "\r")
}
