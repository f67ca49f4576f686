// Generate writes the documents that follow from the code, docs/checks.md
// and docs/schema, from the top of the repository:
//
//	go run ./docs/generate          # write them
//	go run ./docs/generate -check   # fail if one is not as it would be written
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/doctor"
	"yardbroom/internal/render"
	"yardbroom/internal/rounds"
	"yardbroom/internal/settings"
)

func main() {
	check := flag.Bool("check", false, "write nothing; fail if a document is not as it would be written")
	flag.Parse()
	documents := map[string][]byte{"docs/checks.md": checks()}
	shapes := maps.Clone(render.Shapes)
	maps.Copy(shapes, rounds.Shapes)
	shapes["doctor"] = &doctor.Shape{}
	for name, shape := range shapes {
		documents[filepath.Join("docs/schema", name+".json")] = schemaOf(shape, "json", "yardbroom/"+name+"/1", true)
	}
	documents["docs/schema/settings.json"] = schemaOf(&settings.Settings{}, "yaml", "The settings file of Yard Broom",
		false)
	for _, path := range slices.Sorted(maps.Keys(documents)) {
		have, err := os.ReadFile(path)
		switch {
		case err == nil && bytes.Equal(have, documents[path]):
		case *check:
			log.Fatalf("%s is not what the code says: go run ./docs/generate", path)
		default:
			if err := os.WriteFile(path, documents[path], 0o644); err != nil {
				log.Fatal(err)
			}
		}
	}
}

// schemaOf describes a Go type. Shapes for programs may get more fields, so
// those allow others; settings allow none.
func schemaOf(shape any, tag, title string, open bool) []byte {
	r := &jsonschema.Reflector{
		Anonymous:                  true,
		ExpandedStruct:             true,
		FieldNameTag:               tag,
		AllowAdditionalProperties:  open,
		Mapper:                     mapped,
		RequiredFromJSONSchemaTags: !open,
	}
	for _, dir := range []string{"internal/render", "internal/audit", "internal/batch", "internal/source", "internal/settings", "internal/rounds", "internal/doctor", "internal/work"} {
		if err := r.AddGoComments("yardbroom", dir); err != nil {
			log.Fatal(err)
		}
	}
	s := r.Reflect(shape)
	s.Title = title
	if step, ok := s.Definitions["Step"]; ok { // it may be a word alone
		word := &jsonschema.Schema{Type: "string"}
		for p := step.Properties.Oldest(); p != nil; p = p.Next() {
			word.Enum = append(word.Enum, p.Key)
		}
		s.Definitions["Step"] = &jsonschema.Schema{OneOf: []*jsonschema.Schema{word, step}}
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		log.Fatal(err)
	}
	return append(text, '\n')
}

// mapped describes the types that write themselves.
func mapped(t reflect.Type) *jsonschema.Schema {
	words := func(values ...any) *jsonschema.Schema { return &jsonschema.Schema{Type: "string", Enum: values} }
	switch t {
	case reflect.TypeFor[audit.Severity]():
		return words("high", "medium", "low", "info")
	case reflect.TypeFor[audit.Confidence]():
		return words("sure", "likely")
	case reflect.TypeFor[render.EvidenceShape]():
		return &jsonschema.Schema{Type: "object", AdditionalProperties: &jsonschema.Schema{Type: "string"}}
	case reflect.TypeFor[render.RowShape]():
		return &jsonschema.Schema{Type: "object", Description: "the cells by the names of the columns"}
	case reflect.TypeFor[batch.Octets]():
		return &jsonschema.Schema{Type: "string", Description: "octets that are not UTF-8 are written as base64:…"}
	case reflect.TypeFor[calendar.Span]():
		return &jsonschema.Schema{Type: "string", Pattern: "^[0-9]{1,5}(d|w|mo|y)$"}
	case reflect.TypeFor[settings.Words]():
		one := &jsonschema.Schema{Type: "string"}
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{one, {Type: "array", Items: one}}}
	case reflect.TypeFor[settings.Wait]():
		return &jsonschema.Schema{Type: "string", Description: "a short time such as 30s or 2m"}
	}
	return nil
}

func checks() []byte {
	var b bytes.Buffer
	b.WriteString(`# The checks

What each check of the audit reports, from the checks' own texts. ` + "`yardbroom checks NAME`" + ` shows the same.

Every finding names the attribute values that prove it and is *sure* or *likely*. An attribute that is absent proves something only where its presence could have been seen: if no entry of a kind in the survey carries it, the check is not looked at for that kind, and the summary says so. What this account may not read of one entry, or of those in one container, is *hidden*, not absent: on the ad schema the access lists of entries tell, on OpenLDAP and 389 Directory Server a filter that is true only of what is provably absent. In a file an attribute that three or more entries of a container never show, though half or more of such entries elsewhere do, is taken as hidden there. A finding that rests on something hidden is likely and says what; nothing is deleted and nobody taken out of groups on it; the notes, and yard test, name each container and attribute. Built-in entries, mailboxes of rooms and teams, and trust accounts appear in no check unless it says so.

On OpenLDAP a healthy directory may hold no disabled account at all, so no account carries pwdAccountLockedTime. There a check that needs "enabled" is looked at all the same, and its findings are likely, not sure.

| check | severity | reports | actions |
| --- | --- | --- | --- |
`)
	for _, c := range audit.Checks {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s | %s |\n", c.Name, c.Name, c.Severity, c.Short,
			strings.Join(c.Suggest, ", "))
	}
	for _, c := range audit.Checks {
		fmt.Fprintf(&b, "\n## %s\n\n%s", c.Name, c.Doc())
	}
	return b.Bytes()
}
