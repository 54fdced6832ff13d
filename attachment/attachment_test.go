package attachment_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/attachment"
)

func pngOf(t *testing.T, width, height int) []byte {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, width, height))))
	return b.Bytes()
}

// sideways is a JPEG, 40 × 20, the left half of which is white, with the note of a camera that was held upright.
func sideways(t *testing.T) []byte {
	m := image.NewGray(image.Rect(0, 0, 40, 20))
	for y := range 20 {
		for x := range 20 {
			m.SetGray(x, y, color.Gray{255})
		}
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, m, nil))
	exif := "Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00\x00\x00\x00\x00"
	head := []byte{0xff, 0xd8, 0xff, 0xe1, 0, byte(len(exif) + 2)}
	return append(append(head, exif...), b.Bytes()[2:]...)
}

func TestAFileIsWhatItHolds(t *testing.T) {
	for name, want := range map[string]struct {
		data []byte
		kind string
	}{
		"picture.pdf": {pngOf(t, 30, 20), "image/png"},
		"photo":       {sideways(t), "image/jpeg"},
		"data.csv":    {[]byte("t,x\n0,1\n"), "text/csv"},
		"data.txt":    {[]byte("Grün\n"), "text/plain"},
		"page.html":   {[]byte("<html><script>alert(1)</script>"), "text/plain"},
		"sheet.pdf":   {[]byte("%PDF-1.7\n"), "application/pdf"},
	} {
		c, err := attachment.Look(name, want.data)
		require.NoError(t, err, name)
		assert.Equal(t, want.kind, c.Type, name)
		assert.Equal(t, len(want.data), c.Size)
		assert.Len(t, c.Hash, 64)
		assert.Equal(t, strings.HasPrefix(want.kind, "image/"), c.Picture())
	}
	for about, data := range map[string][]byte{
		"is empty":                            nil,
		"it begins like a picture and is non": pngOf(t, 30, 20)[:20],
		"million are the most":                headOf(30000, 30000),
		"it holds none of what can be joined": {0, 1, 2, 3},
		"MB are the most":                     make([]byte, attachment.Largest+1),
		"none of what":                        []byte("GIF89a\x01\x00\x01\x00"),
	} {
		_, err := attachment.Look("x.png", data)
		assert.ErrorContains(t, err, about)
	}
}

// headOf is the beginning of a PNG that says that it is so large.
func headOf(width, height uint32) []byte {
	head := binary.BigEndian.AppendUint32([]byte("IHDR"), width)
	head = append(binary.BigEndian.AppendUint32(head, height), 8, 0, 0, 0, 0)
	data := append([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0d"), head...)
	return binary.BigEndian.AppendUint32(data, crc32.ChecksumIEEE(head))
}

func TestAPictureIsMadeSmallAndUpright(t *testing.T) {
	data := sideways(t)
	c, err := attachment.Look("photo.jpg", data)
	require.NoError(t, err)
	small, err := attachment.Small(&c, data)
	require.NoError(t, err)
	assert.Equal(t, [2]int{20, 40}, [2]int{c.Width, c.Height}, "as it is seen")
	m, kind, err := image.Decode(bytes.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, "jpeg", kind)
	assert.Equal(t, image.Pt(20, 40), m.Bounds().Size())
	top, _, _, _ := m.At(10, 5).RGBA()
	bottom, _, _, _ := m.At(10, 35).RGBA()
	assert.Greater(t, top, bottom, "what was left is above")

	wide := pngOf(t, 1600, 400)
	c, err = attachment.Look("wide.png", wide)
	require.NoError(t, err)
	small, err = attachment.Small(&c, wide)
	require.NoError(t, err)
	m, _, err = image.Decode(bytes.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, image.Pt(480, 120), m.Bounds().Size())
	c.Type = "text/plain"
	small, err = attachment.Small(&c, wide)
	require.NoError(t, err)
	assert.Nil(t, small)
	c.Type = "image/png"
	_, err = attachment.Small(&c, wide[:200])
	assert.ErrorContains(t, err, "damaged")
}

func TestNamesAreSafe(t *testing.T) {
	for name, want := range map[string]string{
		"../../etc/x.png": "x.png", `C:\pictures\hot bar.jpg`: "hot bar.jpg", "a\"b\nc.txt": "abc.txt", "": "file",
		"..": "file", "Sammelschiene größer.png": "Sammelschiene größer.png",
		strings.Repeat("ä", 200): strings.Repeat("ä", 60),
	} {
		assert.Equal(t, want, attachment.PlainName(name))
	}
}
