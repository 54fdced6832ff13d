package hislip

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Frames as the standard draws them: HS, kind, control, parameter, length, payload.
func TestFramesAsInTheStandard(t *testing.T) {
	for _, c := range []struct {
		head    Head
		payload string
		raw     string
	}{
		{Head{Kind: Initialize, Param: 0x0100<<16 | 'U'<<8 | 'B'}, "hislip0",
			"HS\x00\x00\x01\x00UB\x00\x00\x00\x00\x00\x00\x00\x07hislip0"},
		{Head{Kind: DataEnd, Control: 1, Param: 0xffffff02}, "*IDN?\n",
			"HS\x07\x01\xff\xff\xff\x02\x00\x00\x00\x00\x00\x00\x00\x06*IDN?\n"},
		{Head{Kind: AsyncServiceRequest, Control: 0x60}, "",
			"HS\x14\x60" + "\x00\x00\x00\x00" + "\x00\x00\x00\x00\x00\x00\x00\x00"},
		{Head{Kind: AsyncLockInfoResponse}, "", "HS\x19\x00" + "\x00\x00\x00\x00" + "\x00\x00\x00\x00\x00\x00\x00\x00"},
	} {
		var out bytes.Buffer
		require.NoError(t, WriteFrame(&out, c.head, []byte(c.payload)))
		assert.Equal(t, c.raw, out.String())
		head, payload, err := ReadFrame(&out)
		require.NoError(t, err)
		c.head.Length = uint64(len(c.payload))
		assert.Equal(t, c.head, head)
		assert.Equal(t, c.payload, string(payload))
	}
}

func FuzzFrames(f *testing.F) {
	f.Add([]byte("HS\x07\x01\xff\xff\xff\x02\x00\x00\x00\x00\x00\x00\x00\x06*IDN?\n"))
	f.Add([]byte("HS\x07\x01\xff\xff\xff\x02\xff\x00\x00\x00\x00\x00\x00\x06*IDN?\n"))
	f.Add([]byte("GET / HTTP/1.1\r\n\r\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		in := bytes.NewReader(raw)
		head, payload, err := ReadFrame(in)
		if err != nil {
			return
		}
		rest, err := io.ReadAll(in)
		require.NoError(t, err)
		var out bytes.Buffer
		require.NoError(t, WriteFrame(&out, head, payload))
		assert.Equal(t, raw, append(out.Bytes(), rest...))
	})
}
