package api

import (
	"strings"
	"time"
)

// Attachment is a picture or file joined to a run at an instant.
type Attachment struct {
	// Number counts those of a run from 1.
	Number int `json:"number"`
	// T is the instant, s since the start of the run.
	T float64 `json:"t"`
	// Name is that of the file, without folders.
	Name string `json:"name"`
	FileContents
	// Scale is what a thermal picture's colours stand for; nil: it is none.
	Scale *ThermalScale `json:"scale,omitempty"`
	Note  string        `json:"note,omitempty"`
	By    string        `json:"by"`
	At    time.Time     `json:"at"`
}

// FileContents is what a file holds.
type FileContents struct {
	// Type is the media type, by what the file holds.
	Type string `json:"type"`
	Size int    `json:"size"` // bytes
	// Hash is the SHA-256 of the bytes, in hexadecimal digits.
	Hash string `json:"hash"`
	// Width and Height of a picture as it is seen, in pixels; 0: it is none.
	Width  int `json:"width,omitempty"`
	Height int `json:"height,omitempty"`
}

// ThermalScale is the temperatures that the ends of a thermal picture's colours stand for, °C.
type ThermalScale struct {
	Coldest float64 `json:"coldest"`
	Hottest float64 `json:"hottest"`
}

// Picture tells whether it can be looked at.
func (c FileContents) Picture() bool { return strings.HasPrefix(c.Type, "image/") }
