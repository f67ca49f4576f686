// Smallentries writes users of few attributes as LDIF to standard output, for measuring:
// many entries for their octets, and, with -findings, many findings for their entries.
//
//	go run ./bench/smallentries -entries 200000 -findings > small.ldif
package main

import (
	"bufio"
	"encoding/base64"
	"encoding/binary"
	"flag"
	"fmt"
	"os"
	"time"

	"yardbroom/internal/directory"
)

func main() {
	entries := flag.Int("entries", 200_000, "how many users")
	findings := flag.Bool("findings", false, "let many of them be stale, with passwords that never expire")
	flag.Parse()
	out := bufio.NewWriterSize(os.Stdout, 1<<20)
	if err := write(out, *entries, *findings, time.Now().Truncate(24*time.Hour)); err != nil {
		fmt.Fprintln(os.Stderr, "smallentries:", err)
		os.Exit(1)
	}
}

func write(out *bufio.Writer, entries int, findings bool, now time.Time) error {
	domain, err := directory.EncodeSID("S-1-5-21-1-2-3")
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "dn: DC=larkmoor,DC=example\nobjectClass: top\nobjectClass: domain\nobjectClass: domainDNS\nobjectSid:: %s\n\n", base64.StdEncoding.EncodeToString([]byte(domain)))
	for i := range entries {
		sid, err := directory.EncodeSID(fmt.Sprintf("S-1-5-21-1-2-3-%d", 2000+i))
		if err != nil {
			return err
		}
		guid := binary.BigEndian.AppendUint64([]byte("larkmoor"), uint64(i))
		flags, idle := 512, i%60
		if findings {
			idle = i * 7919 % 700
			if i%3 == 0 {
				flags = 66048
			}
		}
		last := directory.FormatFileTime(now.AddDate(0, 0, -idle))
		fmt.Fprintf(out, "dn: CN=Person %d,OU=Unit %d,DC=larkmoor,DC=example\nobjectClass: top\nobjectClass: person\nobjectClass: organizationalPerson\nobjectClass: user\n"+
			"cn: Person %d\nsn: P%d\ngivenName: Per\ndisplayName: Per P%d\nsAMAccountName: p%d\nuserPrincipalName: p%d@larkmoor.example\nmail: p%d@larkmoor.example\n"+
			"objectGUID:: %s\nobjectSid:: %s\nuserAccountControl: %d\nlastLogon: %s\nlastLogonTimestamp: %s\npwdLastSet: %s\naccountExpires: 0\nlockoutTime: 0\nlogonCount: 40\nwhenCreated: 20200101000000.0Z\nprimaryGroupID: 513\n"+
			"department: Unit %d\ntitle: Engineer\ntelephoneNumber: +353 1 555 %04d\n\n",
			i, i%50, i, i, i, i, i, i, base64.StdEncoding.EncodeToString(guid), base64.StdEncoding.EncodeToString([]byte(sid)), flags, last, last, last, i%50, i%10000)
	}
	return out.Flush()
}
