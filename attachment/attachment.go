// Package attachment tells what a picture or file is that somebody joins to a run at an instant, from what it holds
// and not from what it is called.
package attachment

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"net/http"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/disintegration/imaging"
	_ "golang.org/x/image/webp" // a kind of picture that phones make

	"usherbench/api"
)

// Bounds of what is joined to a run.
const (
	Largest     = 12 << 20 // bytes of one
	MostPixels  = 25e6     // of a picture
	LongestName = 120      // bytes
	LongestNote = 500      // characters
)

// Kinds in words, for messages.
const Kinds = "JPEG, PNG and WebP pictures, PDF, and plain text or CSV in UTF-8"

// Look tells what the bytes of a file are. A name counts only for which kind of text it is. It fails with a sentence
// that says what is wrong.
func Look(name string, data []byte) (api.FileContents, error) {
	sum := sha256.Sum256(data)
	c := api.FileContents{Size: len(data), Hash: hex.EncodeToString(sum[:])}
	kind, _, _ := strings.Cut(http.DetectContentType(data), ";")
	switch {
	case len(data) == 0:
		return c, errors.New("the file is empty")
	case len(data) > Largest:
		return c, fmt.Errorf("the file has %d MB; %d MB are the most", len(data)>>20, Largest>>20)
	case kind == "image/jpeg" || kind == "image/png" || kind == "image/webp":
		head, _, err := image.DecodeConfig(bytes.NewReader(data))
		switch {
		case err != nil:
			return c, fmt.Errorf("it begins like a picture and is none: %w", err)
		case float64(head.Width)*float64(head.Height) > MostPixels:
			return c, fmt.Errorf("the picture has %d × %d pixels; %g million are the most", head.Width, head.Height,
				MostPixels/1e6)
		}
		c.Type, c.Width, c.Height = kind, head.Width, head.Height
	case kind == "application/pdf":
		c.Type = kind
	case utf8.Valid(data) && !bytes.ContainsRune(data, 0) && !strings.HasPrefix(kind, "image/"):
		if c.Type = "text/plain"; strings.EqualFold(path.Ext(name), ".csv") {
			c.Type = "text/csv"
		}
	default:
		return c, fmt.Errorf("it holds none of what can be joined to a run: %s", Kinds)
	}
	return c, nil
}

// The largest that a small picture is, pixels.
const smallWidth, smallHeight = 480, 360

// Small makes a picture small, as a JPEG, turns it upright as its camera says, and notes how it then is. Of what is no
// picture it is nil.
func Small(c *api.FileContents, data []byte) ([]byte, error) {
	if !c.Picture() {
		return nil, nil
	}
	whole, err := upright(data)
	if err != nil {
		return nil, err
	}
	c.Width, c.Height = whole.Bounds().Dx(), whole.Bounds().Dy()
	var out bytes.Buffer
	err = imaging.Encode(&out, imaging.Fit(whole, smallWidth, smallHeight, imaging.Box), imaging.JPEG,
		imaging.JPEGQuality(85))
	return out.Bytes(), err
}

func upright(data []byte) (image.Image, error) {
	whole, err := imaging.Decode(bytes.NewReader(data), imaging.AutoOrientation(true))
	if err != nil {
		return nil, fmt.Errorf("the picture is damaged: %w", err)
	}
	return whole, nil
}

// PlainName makes a name safe for a file: without folders, control characters and quotation marks, and not too long.
func PlainName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	name = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || strings.ContainsRune(`"/<>:|?*`, r) || r == utf8.RuneError {
			return -1
		}
		return r
	}, name))
	for len(name) > LongestName {
		_, last := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-last]
	}
	if strings.Trim(name, ".") == "" {
		return "file"
	}
	return name
}
