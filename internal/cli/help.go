package cli

import (
	"embed"
	"strings"
)

//go:embed help/*.txt
var helpTexts embed.FS

// help is the text that explains a command, from the file of its name, with
// values in the place of {names}.
func help(command string, names ...string) string {
	text, err := helpTexts.ReadFile("help/" + command + ".txt")
	if err != nil {
		panic(err) // the files are the program's own
	}
	for i := 0; i < len(names); i += 2 {
		names[i] = "{" + names[i] + "}"
	}
	return strings.NewReplacer(names...).Replace(strings.TrimSuffix(string(text), "\n"))
}
