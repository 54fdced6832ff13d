package vxi11

import (
	"bufio"
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument/transport/session"
)

// A call as the standards draw it: the record's mark, the call's head (RFC 5531, chapter 9), and XDR with its padding.
func TestACallAsInTheStandards(t *testing.T) {
	w := writeCall(7, coreProgram, version, createLink)
	w.number(42)
	w.flag(true)
	w.number(1000)
	w.opaque([]byte("inst0"))
	var out bytes.Buffer
	require.NoError(t, writeRecord(&out, w))
	assert.Equal(t, "\x80\x00\x00\x40"+ // the last fragment, of 64 bytes
		"\x00\x00\x00\x07"+"\x00\x00\x00\x00"+"\x00\x00\x00\x02"+ // number 7, a call, RPC version 2
		"\x00\x06\x07\xaf"+"\x00\x00\x00\x01"+"\x00\x00\x00\x0a"+ // program 395183, version 1, procedure 10
		"\x00\x00\x00\x00"+"\x00\x00\x00\x00"+"\x00\x00\x00\x00"+"\x00\x00\x00\x00"+ // nobody asks
		"\x00\x00\x00\x2a"+"\x00\x00\x00\x01"+"\x00\x00\x03\xe8"+"\x00\x00\x00\x05inst0\x00\x00\x00", out.String())
	a, err := readCall(out.Bytes()[4:])
	require.NoError(t, err)
	assert.Equal(t, uint32(7), a.id)
	assert.Equal(t, uint32(createLink), a.procedure)
	assert.Equal(t, []uint32{42, 1, 1000}, []uint32{a.arguments.number(), a.arguments.number(), a.arguments.number()})
	assert.Equal(t, "inst0", string(a.arguments.opaque()))
	require.NoError(t, a.arguments.err)
	a.arguments.number()
	require.ErrorIs(t, a.arguments.err, ErrMessage)
}

func TestRecordsInFragments(t *testing.T) {
	raw := "\x00\x00\x00\x03one\x00\x00\x00\x00\x80\x00\x00\x03two"
	record, err := readRecord(bufio.NewReader(bytes.NewReader([]byte(raw))))
	require.NoError(t, err)
	assert.Equal(t, "onetwo", string(record))
	_, err = readRecord(bufio.NewReader(bytes.NewReader([]byte("\xff\xff\xff\xffx"))))
	require.ErrorIs(t, err, ErrMessage, "a length that nobody has")
}

// Whatever comes, the reading of it ends, with an error or with what was written.
func FuzzMessages(f *testing.F) {
	call := writeCall(7, coreProgram, version, deviceWrite)
	call.number(1, 1000, 1000, flagEnd)
	call.opaque([]byte("*IDN?"))
	f.Add([]byte(call))
	reply := writeReply(7, success)
	reply.number(0, reasonEnd)
	reply.opaque([]byte("x"))
	f.Add([]byte(reply))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if r, err := readReply(raw, 7); err == nil {
			r.number()
			r.opaque()
		}
		a, err := readCall(raw)
		if err != nil {
			return
		}
		server := &Server{Device: session.Device{Holder: &session.Lock{}}, Part: "inst0"}
		if a.procedure == createInterruptChan { // it would connect to where it is told
			return
		}
		c := &served{server: server, links: map[uint32]*linked{}, over: make(chan struct{})}
		_, _ = c.answer(a)
	})
}
