package logs

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// windowsEvent is a security event with the values that its public documentation names.
type windowsEvent struct {
	id      int
	version int
	data    []string // name, value, …
	want    string
}

const (
	windowsAt = "2026-11-03T07:00:01.2503216Z"
	adaSID    = "S-1-5-21-1-2-3-1105"
)

var windowsEvents = []windowsEvent{
	{4625, 0, []string{"SubjectUserSid", "S-1-0-0", "SubjectUserName", "-", "SubjectDomainName", "-", "SubjectLogonId", "0x0", "TargetUserSid", "S-1-0-0",
		"TargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR", "Status", "0xc000006d", "FailureReason", "%%2313", "SubStatus", "0xc000006a", "LogonType", "3",
		"LogonProcessName", "NtLmSsp ", "AuthenticationPackageName", "NTLM", "WorkstationName", "PHONE-7", "ProcessName", "-", "IpAddress", "10.1.2.3", "IpPort", "50123"},
		`refused (wrong password: 0xc000006a) name="ada.quill" domain="LARKMOOR" machine="PHONE-7" via="network" server="dc1.larkmoor.example" kind="4625" from 10.1.2.3 type 3`},
	{4625, 0, []string{"TargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR", "Status", "0xc0000234", "SubStatus", "0x0", "LogonType", "4",
		"WorkstationName", "SRV2", "ProcessName", `C:\Windows\System32\svchost.exe`, "IpAddress", "-"},
		`refused (locked out: 0xc0000234) name="ada.quill" domain="LARKMOOR" machine="SRV2" via="scheduled task, svchost.exe" server="dc1.larkmoor.example" kind="4625" type 4`},
	{4625, 0, []string{"TargetUserName", "ghost", "TargetDomainName", "", "Status", "0xC000006D", "SubStatus", "0xC0000064", "LogonType", "10", "WorkstationName", "-", "IpAddress", "::ffff:10.9.9.9"},
		`refused (no such account: 0xc0000064) name="ghost" via="remote desktop" server="dc1.larkmoor.example" kind="4625" from 10.9.9.9 type 10`},
	{4625, 0, []string{"TargetUserName", "ada.quill", "Status", "-1073741715", "SubStatus", "-1073741718", "LogonType", "2", "WorkstationName", "PC1"},
		`refused (wrong password: 0xc000006a) name="ada.quill" machine="PC1" via="at the machine" server="dc1.larkmoor.example" kind="4625" type 2`},
	{4624, 2, []string{"SubjectUserName", "SRV1$", "TargetUserSid", adaSID, "TargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR", "LogonType", "5", "WorkstationName", "SRV1",
		"ProcessName", `C:\Windows\System32\services.exe`, "IpAddress", "-", "ElevatedToken", "%%1842"},
		`signed in name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" machine="SRV1" via="service, services.exe" server="dc1.larkmoor.example" kind="4624" type 5`},
	{4624, 0, []string{"TargetUserSid", adaSID, "TargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR", "LogonType", "10", "WorkstationName", "DC1", "IpAddress", "fe80::1%4"},
		`signed in name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" machine="DC1" via="remote desktop" server="dc1.larkmoor.example" kind="4624" from fe80::1 type 10`},
	{4771, 0, []string{"TargetUserName", "ada.quill", "TargetSid", adaSID, "ServiceName", "krbtgt/LARKMOOR", "TicketOptions", "0x40810010", "Status", "0x18", "PreAuthType", "2", "IpAddress", "::ffff:10.1.2.3", "IpPort", "49160"},
		`refused (wrong password: 0x18) name="ada.quill" sid="S-1-5-21-1-2-3-1105" via="Kerberos" server="dc1.larkmoor.example" kind="4771" from 10.1.2.3`},
	{4771, 0, []string{"TargetUserName", "ada.quill", "TargetSid", adaSID, "Status", "0x25", "IpAddress", "10.1.2.3"},
		`refused (clocks differ: 0x25) name="ada.quill" sid="S-1-5-21-1-2-3-1105" via="Kerberos" server="dc1.larkmoor.example" kind="4771" from 10.1.2.3`},
	{4768, 0, []string{"TargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR.EXAMPLE", "TargetSid", adaSID, "ServiceName", "krbtgt", "Status", "0x0", "TicketEncryptionType", "0x12", "IpAddress", "::ffff:10.1.2.3"},
		`signed in name="ada.quill" domain="LARKMOOR.EXAMPLE" sid="S-1-5-21-1-2-3-1105" via="Kerberos" server="dc1.larkmoor.example" kind="4768" from 10.1.2.3`},
	{4768, 2, []string{"TargetUserName", "ghost", "TargetDomainName", "larkmoor.example", "TargetSid", "S-1-0-0", "Status", "0x6", "IpAddress", "10.1.2.3", "ResponseTicket", "N/A"},
		`refused (no such account: 0x6) name="ghost" domain="larkmoor.example" via="Kerberos" server="dc1.larkmoor.example" kind="4768" from 10.1.2.3`},
	{4776, 0, []string{"PackageName", "MICROSOFT_AUTHENTICATION_PACKAGE_V1_0", "TargetUserName", "ada.quill", "Workstation", `\\PHONE-7`, "Status", "0xc000006a"},
		`refused (wrong password: 0xc000006a) name="ada.quill" machine="PHONE-7" via="NTLM" server="dc1.larkmoor.example" kind="4776"`},
	{4776, 0, []string{"TargetUserName", "ada.quill", "Workstation", "PHONE-7", "Status", "0x0"},
		`signed in name="ada.quill" machine="PHONE-7" via="NTLM" server="dc1.larkmoor.example" kind="4776"`},
	{4740, 0, []string{"TargetUserName", "ada.quill", "TargetDomainName", "PHONE-7", "TargetSid", adaSID, "SubjectUserSid", "S-1-5-18", "SubjectUserName", "DC1$", "SubjectDomainName", "LARKMOOR"},
		`locked out name="ada.quill" sid="S-1-5-21-1-2-3-1105" machine="PHONE-7" server="dc1.larkmoor.example" kind="4740"`},
	{4767, 0, changedBy("ada.quill"), `unlocked name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4767"`},
	{4720, 0, changedBy("ada.quill"), `created name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4720"`},
	{4722, 0, changedBy("ada.quill"), `enabled name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4722"`},
	{4723, 0, changedBy("ada.quill"), `password changed name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4723"`},
	{4724, 0, changedBy("ada.quill"), `password reset name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4724"`},
	{4725, 0, changedBy("ada.quill"), `disabled name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4725"`},
	{4726, 0, changedBy("ada.quill"), `deleted name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4726"`},
	{4738, 0, changedBy("ada.quill"), `changed name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" kind="4738"`},
	{4781, 0, []string{"OldTargetUserName", "ada.quil", "NewTargetUserName", "ada.quill", "TargetDomainName", "LARKMOOR", "TargetSid", adaSID, "SubjectUserSid", "S-1-5-21-1-2-3-500", "SubjectUserName", "bea", "SubjectDomainName", "LARKMOOR"},
		`renamed name="ada.quill" domain="LARKMOOR" sid="S-1-5-21-1-2-3-1105" server="dc1.larkmoor.example" by="LARKMOOR\\bea" change="from ada.quil to ada.quill" kind="4781"`},
}

func changedBy(name string) []string {
	return []string{"TargetUserName", name, "TargetDomainName", "LARKMOOR", "TargetSid", adaSID, "SubjectUserSid", "S-1-5-21-1-2-3-500", "SubjectUserName", "bea",
		"SubjectDomainName", "LARKMOOR", "SubjectLogonId", "0x1a2b", "PrivilegeList", "-"}
}

// object is what a program that forwards events makes of them.
type object = map[string]any

// shapes are the ways in which an event is written.
var shapes = map[string]func(e *windowsEvent) string{
	"XML": func(e *windowsEvent) string {
		var b strings.Builder
		fmt.Fprintf(&b, `<Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System><Provider Name="Microsoft-Windows-Security-Auditing" Guid="{54849625-5478-4994-a5ba-3e3b0328c30d}"/><EventID>%d</EventID><Version>%d</Version><Level>0</Level><Keywords>0x8010000000000000</Keywords><TimeCreated SystemTime="%s"/><EventRecordID>1</EventRecordID><Channel>Security</Channel><Computer>dc1.larkmoor.example</Computer><Security/></System><EventData>`, e.id, e.version, windowsAt)
		for i := 0; i < len(e.data); i += 2 {
			fmt.Fprintf(&b, `<Data Name="%s">`, e.data[i])
			_ = xml.EscapeText(&b, []byte(e.data[i+1]))
			b.WriteString("</Data>")
		}
		b.WriteString("</EventData></Event>")
		return b.String()
	},
	"nested": func(e *windowsEvent) string {
		var data []object
		for i := 0; i < len(e.data); i += 2 {
			data = append(data, object{"@Name": e.data[i], "#text": e.data[i+1]})
		}
		return line(object{"Event": object{"System": object{"EventID": object{"#text": fmt.Sprint(e.id), "@Qualifiers": ""}, "Version": e.version,
			"TimeCreated": object{"@SystemTime": windowsAt}, "Computer": "dc1.larkmoor.example"}, "EventData": object{"Data": data}}})
	},
	"an object of data": func(e *windowsEvent) string {
		return line(object{"winlog": object{"event_id": e.id, "computer_name": "dc1.larkmoor.example", "event_data": e.values(), "channel": "Security"},
			"@timestamp": windowsAt, "host": object{"name": "collector"}, "event": object{"code": fmt.Sprint(e.id), "created": "2026-11-03T07:05:00Z"}})
	},
	"flat with dots": func(e *windowsEvent) string {
		all := object{"winlog.event_id": fmt.Sprint(e.id), "winlog.computer_name": "dc1.larkmoor.example", "@timestamp": windowsAt}
		for name, v := range e.values() {
			all["winlog.event_data."+name] = v
		}
		return line(all)
	},
	"flat": func(e *windowsEvent) string {
		all := object{"EventID": e.id, "Hostname": "dc1.larkmoor.example", "EventTime": "2026-11-03 07:00:01.2503216", "EventReceivedTime": "2026-11-03 09:00:00", "SeverityValue": 2}
		for name, v := range e.values() {
			all[name] = v
		}
		return line(all)
	},
	"with underscores": func(e *windowsEvent) string {
		all := object{"event_id": e.id, "computer": "dc1.larkmoor.example", "time_created": windowsAt}
		for name, v := range e.values() {
			all[underscored(name)] = v
		}
		return line(all)
	},
}

func (e *windowsEvent) values() object {
	all := object{}
	for i := 0; i < len(e.data); i += 2 {
		all[e.data[i]] = e.data[i+1]
	}
	return all
}

func underscored(name string) string {
	var b strings.Builder
	for i, c := range name {
		if i > 0 && c >= 'A' && c <= 'Z' {
			b.WriteByte('_')
		}
		b.WriteRune(c)
	}
	return strings.ToLower(b.String())
}

func line(o object) string {
	text, err := json.Marshal(o)
	if err != nil {
		panic(err)
	}
	return string(text)
}

func TestWindowsEventsInEveryShape(t *testing.T) {
	for name, shape := range shapes {
		t.Run(name, func(t *testing.T) {
			for _, e := range windowsEvents {
				text := shape(&e)
				events, report := readAll(t, text+"\n", &Options{}, nil)
				if assert.Len(t, events, 1, "%s\n%+v", text, report) {
					assert.Equal(t, "1 2026-11-03T07:00:01.250Z "+e.want, told(&events[0]), text)
				}
			}
		})
	}
}

// An export stands in one element, in UTF-16 as the tools of Windows write it, or with
// all events on one line.
func TestExportOfEvents(t *testing.T) {
	var all strings.Builder
	all.WriteString("<?xml version=\"1.0\" encoding=\"utf-8\" standalone=\"yes\"?>\n<Events>")
	for _, e := range windowsEvents {
		all.WriteString(shapes["XML"](&e))
	}
	all.WriteString("</Events>")
	wide := []byte{0xff, 0xfe}
	for _, c := range all.String() {
		wide = append(wide, byte(c), byte(c>>8))
	}
	for name, text := range map[string]string{"in UTF-8": all.String(), "in UTF-16": string(wide)} {
		t.Run(name, func(t *testing.T) {
			events, report := readAll(t, text, &Options{}, nil)
			assert.Len(t, events, len(windowsEvents))
			assert.Zero(t, report.Broken, report.Fault)
			some, sparse := readAll(t, text, &Options{}, NewOnly("GHOST"))
			assert.Equal(t, report.Last, sparse.Last)
			var ghosts int
			for _, e := range some {
				if e.Name == "ghost" {
					ghosts++
				}
			}
			assert.Equal(t, 2, ghosts)
		})
	}
}
