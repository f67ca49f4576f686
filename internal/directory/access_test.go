package directory

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// descriptorOf writes a security descriptor with an access list.
func descriptorOf(list ...ace) string {
	var body []byte
	for _, a := range list {
		rest := []byte(nil)
		if a.kind == aceAllowedObject || a.kind == aceDeniedObject {
			what := uint32(0)
			if a.object != "" {
				what = aceObjectType
			}
			rest = append(binary.LittleEndian.AppendUint32(rest, what), a.object...)
		}
		rest = append(rest, a.sid...)
		one := append([]byte{a.kind, a.flags}, binary.LittleEndian.AppendUint16(nil, uint16(8+len(rest)))...)
		one = binary.LittleEndian.AppendUint32(one, a.mask)
		body = append(body, append(one, rest...)...)
	}
	acl := append([]byte{4, 0}, binary.LittleEndian.AppendUint16(nil, uint16(8+len(body)))...)
	acl = append(binary.LittleEndian.AppendUint16(acl, uint16(len(list))), 0, 0)
	head := append([]byte{1, 0, daclPresent, 0x80}, make([]byte, 12)...)
	return string(append(append(head, 20, 0, 0, 0), append(acl, body...)...))
}

func sidOf(text string) string {
	raw, err := EncodeSID(text)
	if err != nil {
		panic(err)
	}
	return raw
}

func guidOf(n byte) string { return strings.Repeat(string([]byte{n}), guidSize) }

var (
	me, crew, other = sidOf("S-1-5-21-1-2-3-1104"), sidOf("S-1-5-21-1-2-3-1200"), sidOf("S-1-5-21-1-2-3-9999")
	everyone        = sidOf(everyoneSID)
)

// checkAccess is the algorithm of MS-DTYP 2.5.3.2, word for word: a tree of the
// object, its set of properties and its property, each with what remains to be
// granted.
func checkAccess(list []ace, token map[string]bool, right uint32, p Property) bool {
	type node struct {
		id        string
		remaining uint32
	}
	tree := []node{{"", right}, {p.Set, right}, {p.ID, right}} // each is the parent of the next
	for _, a := range list {
		if a.flags&aceInheritOnly != 0 || !token[a.sid] {
			continue
		}
		switch a.kind {
		case aceAllowed:
			for i := range tree {
				tree[i].remaining &^= a.mask
			}
		case aceDenied:
			for i := range tree {
				if tree[i].remaining&a.mask != 0 && i == 2 {
					return false
				}
			}
		case aceAllowedObject:
			reached := false
			for i := range tree {
				reached = reached || a.object == "" || tree[i].id == a.object && a.object != ""
				if reached {
					tree[i].remaining &^= a.mask
				}
			}
		case aceDeniedObject:
			reached := false
			for i := range tree {
				reached = reached || a.object == "" || tree[i].id == a.object && a.object != ""
				if reached && i == 2 && tree[i].remaining&a.mask != 0 {
					return false
				}
			}
		}
	}
	return tree[2].remaining == 0
}

func TestReadingIsGrantedAsTheStandardSays(t *testing.T) {
	properties := map[AttrID]Property{AttrMail: {ID: guidOf(1), Set: guidOf(9)}, AttrTitle: {ID: guidOf(2), Set: guidOf(9)}, AttrMember: {ID: guidOf(3)},
		AttrObjectClass: {ID: guidOf(4), Set: guidOf(8)}}
	rapid.Check(t, func(t *rapid.T) {
		one := rapid.Custom(func(t *rapid.T) ace {
			a := ace{kind: rapid.SampledFrom([]byte{aceAllowed, aceDenied, aceAllowedObject, aceDeniedObject}).Draw(t, "kind"),
				flags: rapid.SampledFrom([]byte{0, 0, aceInherited, aceInheritOnly | aceInherited}).Draw(t, "flags"),
				mask:  rapid.SampledFrom([]uint32{rightReadProperty, rightListChildren, rightReadProperty | rightListChildren, 0x20}).Draw(t, "mask"),
				sid:   rapid.SampledFrom([]string{me, crew, other, everyone}).Draw(t, "sid")}
			if a.kind == aceAllowedObject || a.kind == aceDeniedObject {
				a.object = rapid.SampledFrom([]string{"", guidOf(1), guidOf(2), guidOf(3), guidOf(8), guidOf(9), guidOf(7)}).Draw(t, "object")
			}
			return a
		})
		list := rapid.SliceOfN(one, 0, 8).Draw(t, "list")
		token := map[string]bool{me: true, crew: true, everyone: true}
		got := NewReader([]string{me, crew, everyone}, properties).Sight(descriptorOf(list...), "")
		require.True(t, got.Known)
		for id, p := range properties {
			require.Equal(t, !checkAccess(list, token, rightReadProperty, p), got.Hidden.Has(id), "%s", id)
		}
		if !checkAccess(list, token, rightListChildren, Property{}) {
			require.False(t, got.Children)
		}
	})
}

func TestWhatAnAccountSees(t *testing.T) {
	mail, set, class := guidOf(1), guidOf(9), guidOf(4)
	all := ace{kind: aceAllowed, mask: rightReadProperty | rightListChildren, sid: everyone}
	for _, c := range []struct {
		what string
		list []ace
		self bool
		want string
	}{
		{"all may read", []ace{all}, false, "children"},
		{"nobody is named", nil, false, "mail member objectClass"},
		{"a property is denied", []ace{{kind: aceDeniedObject, mask: rightReadProperty, object: mail, sid: me}, all}, false, "mail children"},
		{"its set is denied to a group", []ace{{kind: aceDeniedObject, mask: rightReadProperty, object: set, sid: crew}, all}, false, "mail children"},
		{"denied to somebody else", []ace{{kind: aceDeniedObject, mask: rightReadProperty, object: mail, sid: other}, all}, false, "children"},
		{"denied behind what allows", []ace{all, {kind: aceDeniedObject, mask: rightReadProperty, object: mail, sid: me}}, false, "children"},
		{"denied to what stands below only", []ace{{kind: aceDeniedObject, flags: aceInherited | aceInheritOnly, mask: rightReadProperty, object: mail, sid: me}, all}, false, "children"},
		{"all of what stands below is hidden", []ace{{kind: aceDenied, flags: aceInherited | aceInheritOnly, mask: rightReadProperty, sid: me}, all}, false, ""},
		{"the classes of what stands below are hidden", []ace{{kind: aceDeniedObject, flags: aceInherited | aceInheritOnly, mask: rightReadProperty, object: class, sid: me}, all}, false, ""},
		{"a container does not list", []ace{{kind: aceDenied, mask: rightListChildren, sid: me}, all}, false, ""},
		{"a right of everything", []ace{{kind: aceAllowed, mask: rightGenericAll, sid: me}}, false, "children"},
		{"a right of all that is read", []ace{{kind: aceAllowed, mask: rightGenericRead, sid: me}}, false, "children"},
		{"one's own entry", []ace{{kind: aceAllowed, mask: rightGenericRead, sid: rawSelf}}, true, "children"},
		{"somebody else's own entry", []ace{{kind: aceAllowed, mask: rightGenericRead, sid: rawSelf}}, false, "mail member objectClass"},
	} {
		r := NewReader([]string{me, crew, everyone}, map[AttrID]Property{AttrMail: {ID: mail, Set: set}, AttrMember: {ID: guidOf(3)}, AttrObjectClass: {ID: class}})
		sid := other
		if c.self {
			sid = me
		}
		for range 2 { // the second time it is remembered
			s := r.Sight(descriptorOf(c.list...), sid)
			require.True(t, s.Known, c.what)
			var words []string
			for id := range s.Hidden.All() {
				words = append(words, id.String())
			}
			if s.Children {
				words = append(words, "children")
			}
			assert.ElementsMatch(t, strings.Fields(c.want), words, c.what)
		}
	}
	confidential := NewReader([]string{me}, map[AttrID]Property{AttrMail: {ID: mail, Confidential: true}})
	assert.True(t, confidential.Sight(descriptorOf(ace{kind: aceAllowed, mask: rightReadProperty, sid: me}), "").Hidden.Has(AttrMail))
	assert.False(t, confidential.Sight(descriptorOf(ace{kind: aceAllowed, mask: rightReadProperty | rightControlAccess, sid: me}), "").Hidden.Has(AttrMail))
}

func TestAConditionDeniesAndDoesNotAllow(t *testing.T) {
	for kind, want := range map[byte]bool{aceAllowedConditional: true, aceDeniedConditional: true} {
		list := descriptorOf(ace{kind: kind, mask: rightReadProperty, sid: me}, ace{kind: aceAllowed, mask: rightReadProperty, sid: other})
		s := NewReader([]string{me}, map[AttrID]Property{AttrMail: {ID: guidOf(1)}}).Sight(list, "")
		assert.Equal(t, want, s.Hidden.Has(AttrMail), kind)
	}
	after := descriptorOf(ace{kind: aceDeniedConditional, mask: rightReadProperty, sid: me}, ace{kind: aceAllowed, mask: rightReadProperty, sid: me})
	assert.True(t, NewReader([]string{me}, map[AttrID]Property{AttrMail: {ID: guidOf(1)}}).Sight(after, "").Hidden.Has(AttrMail))
}

func TestADescriptorThatCannotBeReadTellsNothing(t *testing.T) {
	whole := descriptorOf(ace{kind: aceDeniedObject, mask: rightReadProperty, object: guidOf(1), sid: me}, ace{kind: aceAllowed, mask: rightReadProperty, sid: everyone})
	r := NewReader([]string{me, everyone}, map[AttrID]Property{AttrMail: {ID: guidOf(1)}})
	require.True(t, r.Sight(whole, "").Known)
	for n := range len(whole) {
		assert.Equal(t, Sight{}, r.Sight(whole[:n], ""), "%d octets", n)
	}
	none := []byte(whole)
	none[2] = 0
	assert.Equal(t, Sight{Known: true, Children: true}, r.Sight(string(none), ""), "no list at all: everybody may")
	for n := range 3 * mostRemembered / 2 { // many lists are forgotten, and judged again
		r.Sight(descriptorOf(ace{kind: aceAllowed, mask: uint32(n), sid: me}), "")
	}
	assert.LessOrEqual(t, len(r.judged), mostRemembered)
	assert.True(t, r.Sight(whole, "").Hidden.Has(AttrMail), fmt.Sprint(len(r.judged)))
}

// An entry of a list may say for which class of entries below it is meant; who
// it is about stands behind that.
func TestAnEntryForAClassOfEntries(t *testing.T) {
	rest := binary.LittleEndian.AppendUint32(nil, aceObjectType|aceInheritedType)
	rest = append(append(rest, guidOf(1)+guidOf(5)...), me...)
	one := append([]byte{aceDeniedObject, 0}, binary.LittleEndian.AppendUint16(nil, uint16(8+len(rest)))...)
	one = append(binary.LittleEndian.AppendUint32(one, rightReadProperty), rest...)
	plain := descriptorOf(ace{kind: aceAllowed, mask: rightReadProperty, sid: everyone})
	all := append([]byte(plain[:sdHeaderSize+aclHeaderSize]), append(one, plain[sdHeaderSize+aclHeaderSize:]...)...)
	binary.LittleEndian.PutUint16(all[sdHeaderSize+2:], uint16(len(all)-sdHeaderSize))
	all[sdHeaderSize+4] = 2
	s := NewReader([]string{me, everyone}, map[AttrID]Property{AttrMail: {ID: guidOf(1)}, AttrTitle: {ID: guidOf(2)}}).Sight(string(all), "")
	assert.Equal(t, Sight{Known: true, Hidden: Attrs(AttrMail)}, s)
}

// What somebody may do is foreseen only where the lists tell it.
func TestWhatMayBeDone(t *testing.T) {
	r := NewReader([]string{me, crew}, map[AttrID]Property{AttrObjectClass: {ID: guidOf(9)}})
	user, mail, names := guidOf(1), Property{ID: guidOf(2), Set: guidOf(3)}, Property{ID: guidOf(4)}
	allow := func(sid string, mask uint32, object string) ace {
		if object != "" {
			return ace{kind: aceAllowedObject, mask: mask, object: object, sid: sid}
		}
		return ace{kind: aceAllowed, mask: mask, sid: sid}
	}
	deny := func(a ace) ace { a.kind++; return a }
	none := descriptorOf()
	type answer struct{ may, known bool }
	ask := func(may, known bool) answer { return answer{may, known} }
	yes, no, unknown := answer{true, true}, answer{false, true}, answer{}
	for _, c := range []struct {
		what      string
		want, got answer
	}{
		{"nothing is granted", no, ask(r.MayDelete(none, "", none, user))},
		{"the entry's own list", yes, ask(r.MayDelete(descriptorOf(allow(crew, rightDelete, "")), "", none, user))},
		{"somebody else's right", no, ask(r.MayDelete(descriptorOf(allow(other, rightDelete, "")), "", none, user))},
		{"the list of what it stands in", yes, ask(r.MayDelete(none, "", descriptorOf(allow(me, rightDeleteChild, "")), user))},
		{"for entries of its class", yes, ask(r.MayDelete(none, "", descriptorOf(allow(me, rightDeleteChild, user)), user))},
		{"for entries of another class", no, ask(r.MayDelete(none, "", descriptorOf(allow(me, rightDeleteChild, guidOf(7))), user))},
		{"a denial first", no, ask(r.MayDelete(descriptorOf(deny(allow(me, rightDelete, "")), allow(crew, rightDelete, "")), "", none, user))},
		{"a denial last", yes, ask(r.MayDelete(descriptorOf(allow(crew, rightDelete, ""), deny(allow(me, rightDelete, ""))), "", none, user))},
		{"for those below only", no, ask(r.MayDelete(descriptorOf(ace{kind: aceAllowed, flags: aceInheritOnly | aceInherited, mask: rightDelete, sid: me}), "", none, user))},
		{"a list above that is not shown", unknown, ask(r.MayDelete(none, "", "", user))},
		{"a condition above", unknown, ask(r.MayDelete(none, "", descriptorOf(ace{kind: aceAllowedConditional, mask: rightDeleteChild, sid: me}), user))},
		{"a condition about somebody else", no, ask(r.MayDelete(none, "", descriptorOf(ace{kind: aceAllowedConditional, mask: rightDeleteChild, sid: other}), user))},
		{"everything", yes, ask(r.MayWrite(descriptorOf(allow(me, rightGenericAll, "")), "", mail))},
		{"writing in general", yes, ask(r.MayWrite(descriptorOf(allow(me, rightGenericWrite, "")), "", mail))},
		{"reading in general", no, ask(r.MayWrite(descriptorOf(allow(me, rightGenericRead, "")), "", mail))},
		{"the set of the attribute", yes, ask(r.MayWrite(descriptorOf(allow(me, rightWriteProperty, guidOf(3))), "", mail))},
		{"another attribute", no, ask(r.MayWrite(descriptorOf(allow(me, rightWriteProperty, guidOf(2))), "", names))},
		{"no list that can be read", unknown, ask(r.MayWrite("x", "", mail))},
		{"oneself", yes, ask(r.MayWrite(descriptorOf(allow(rawSelf, rightWriteProperty, "")), me, mail))},
		{"somebody else's self", no, ask(r.MayWrite(descriptorOf(allow(rawSelf, rightWriteProperty, "")), other, mail))},
		{"an extended right", yes, ask(r.MayControl(descriptorOf(allow(me, rightControlAccess, ForceChangePassword)), "", ForceChangePassword))},
		{"another extended right", no, ask(r.MayControl(descriptorOf(allow(me, rightControlAccess, guidOf(5))), "", ForceChangePassword))},
	} {
		assert.Equal(t, c.want, c.got, c.what)
	}
}
