package source

import (
	"math/rand/v2"
	"testing"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
)

// response is the body of an IntermediateResponse with a value.
func response(value *ber.Packet) []byte {
	m := ber.NewSequence("")
	m.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "1.3.6.1.4.1.4203.1.9.1.4", ""))
	m.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 1, string(value.Bytes()), ""))
	return m.Data.Bytes()
}

// choice is one of the values that a Sync Info Message may have.
func choice(tag ber.Tag) *ber.Packet {
	return ber.Encode(ber.ClassContext, ber.TypeConstructed, tag, nil, "")
}

func octetString(s string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
}

// What is sliced from Sync Info Messages is what the protocol package reads of them.
func TestSyncInfoIsReadAsTheProtocolPackageDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		value := choice(ber.Tag(r.IntN(4)))
		switch value.Tag {
		case 0:
			value = ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "a cookie", "")
		case 3:
			if r.IntN(2) == 0 {
				value.AppendChild(octetString("a cookie"))
			}
			if r.IntN(2) == 0 {
				value.AppendChild(ber.NewBoolean(ber.ClassUniversal, ber.TypePrimitive, ber.TagBoolean, r.IntN(2) == 0, ""))
			}
			ids := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
			for range r.IntN(300) {
				var id [16]byte
				for i := range id {
					id[i] = byte(r.IntN(256))
				}
				ids.AppendChild(octetString(string(id[:])))
			}
			value.AppendChild(ids)
		default:
			if r.IntN(2) == 0 {
				value.AppendChild(octetString("a cookie"))
			}
		}
		packet, err := ber.DecodePacketErr(value.Bytes())
		require.NoError(t, err)
		info, err := ldap.NewControlSyncInfo(packet)
		require.NoError(t, err)
		for _, d := range []*directory.Dialect{directory.OpenLDAP, directory.NS389} {
			want := &synced{gone: map[string]bool{}, present: map[uint64]string{}, presents: info.RefreshPresent != nil}
			if info.SyncIdSet != nil {
				for _, u := range info.SyncIdSet.SyncUUIDs {
					if id := identityOfUUID(d, u); info.SyncIdSet.RefreshDeletes {
						want.gone[id] = true
					} else {
						want.present[kept.Hash(id)] = id
					}
				}
			}
			got := &synced{gone: map[string]bool{}, present: map[uint64]string{}}
			require.NoError(t, got.info(d, response(value)))
			require.Equal(t, want, got)
		}
	}
}

// What is cut off, or holds identities of another length, is no answer.
func TestSyncInfoThatIsNotWhole(t *testing.T) {
	value := choice(3)
	ids := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
	ids.AppendChild(octetString("sixteen octets!!"))
	value.AppendChild(ids)
	whole := response(value)
	y := &synced{gone: map[string]bool{}, present: map[uint64]string{}}
	require.NoError(t, y.info(directory.OpenLDAP, whole))
	assert.Len(t, y.present, 1)
	oid := len(response(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "", ""))) - 4
	for n := oid + 1; n < len(whole); n++ {
		assert.ErrorIs(t, y.info(directory.OpenLDAP, whole[:n]), errNotLDAP, "%d octets", n)
	}
	ids.AppendChild(octetString("fifteen octets."))
	short := choice(3)
	short.AppendChild(ids)
	assert.ErrorIs(t, y.info(directory.OpenLDAP, response(short)), errNotLDAP)
}
