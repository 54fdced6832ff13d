package service

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/console"
)

// protect sets the headers that keep a browser from doing what the console never asks for.
func (s *Service) protect(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if s.options.Secure { // whoever has seen the service under TLS asks for it without no more
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
			h.Set("Content-Security-Policy", "default-src 'none'")
		}
		return next(c)
	}
}

// noncePlace stands in the console's page where the nonce of the answer goes.
const noncePlace = "__NONCE__"

// consoleFile serves the console's files; any other path is a view of the console and gets its page.
func (s *Service) consoleFile(c *echo.Context) error {
	dist, err := fs.Sub(console.Dist, "dist")
	if err != nil {
		return err
	}
	name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
	if strings.HasPrefix(name, "assets/") {
		if _, err := fs.Stat(dist, name); err != nil {
			return echo.ErrNotFound
		}
		// Names of assets hold a hash of their content.
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		return c.FileFS(name, dist)
	}
	page, err := fs.ReadFile(dist, "index.html")
	if err != nil {
		return &api.Problem{Title: "The console was not built", Status: http.StatusNotFound,
			Detail: "this program holds only the API", Remedy: "build it with: make build"}
	}
	nonce := rand.Text()
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy",
		"default-src 'self'; script-src 'self'; style-src-elem 'self' 'nonce-"+nonce+"'; style-src-attr 'unsafe-inline'; "+
			"img-src 'self' data: blob:; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; form-action "+
			"'self'; frame-ancestors 'none'")
	return c.HTMLBlob(http.StatusOK, bytes.ReplaceAll(page, []byte(noncePlace), []byte(nonce)))
}

// openAPIDocument is the OpenAPI document as JSON.
var openAPIDocument = sync.OnceValues(func() ([]byte, error) {
	var tree map[string]any
	if err := yaml.Unmarshal(api.OpenAPI, &tree); err != nil {
		return nil, fmt.Errorf("OpenAPI document: %w", err)
	}
	return json.Marshal(tree)
})

func (s *Service) openAPI(c *echo.Context) error {
	body, err := openAPIDocument()
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, body)
}
