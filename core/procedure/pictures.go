package procedure

import (
	"bytes"
	"encoding/base64"
	"maps"
	"slices"

	"usherbench/core/document"
)

// mostPicture bounds a picture that travels with a procedure, bytes.
const mostPicture = 96 << 10

// readPictures reads the pictures that travel with the document, as base64: {fixture.png: iVBORw0KGgo…}.
func (r *Reader) readPictures(n document.Node) {
	for _, e := range n.Entries() {
		data, err := base64.StdEncoding.DecodeString(e.Value.Text())
		switch {
		case err != nil:
			e.Value.Fail("picture %s is not base64: %s", e.Key, err)
		case PictureType(data) == "":
			e.Value.Fail("picture %s is neither PNG nor JPEG", e.Key)
		case len(data) > mostPicture:
			e.Value.Fail("picture %s has %d kB; make it smaller than %d kB", e.Key, len(data)>>10, mostPicture>>10)
		default:
			if r.p.Pictures == nil {
				r.p.Pictures = map[string][]byte{}
			}
			r.p.Pictures[e.Key] = data
		}
	}
}

// PictureType is the media type of a picture; empty for what is neither PNG nor JPEG.
func PictureType(data []byte) string {
	switch {
	case bytes.HasPrefix(data, []byte("\x89PNG\r\n")):
		return "image/png"
	case bytes.HasPrefix(data, []byte("\xff\xd8\xff")):
		return "image/jpeg"
	}
	return ""
}

// Picture reads the name of a picture that travels with the document.
func (r *Reader) Picture(n document.Node) string {
	name := n.Text()
	if _, ok := r.p.Pictures[name]; !ok {
		n.Fail("there is no picture %q; put its file beside the procedure's, or it under pictures; %s", name,
			document.Suggest(name, slices.Collect(maps.Keys(r.p.Pictures))))
	}
	return name
}
