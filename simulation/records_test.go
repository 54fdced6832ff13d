package simulation

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"

	"usherbench/client"
	"usherbench/demo"
	"usherbench/instrument/transport/memory"
	"usherbench/service"
	"usherbench/simbench"
)

// Records makes in a folder the records with which every scenario begins: the nameplates and the procedures are on
// record already, and no run is.
func Records(folder string) (err error) {
	name := fmt.Sprintf("w%d-", worlds.Add(1))
	b, err := simbench.Start(simbench.Options{Memory: name})
	if err != nil {
		return err
	}
	defer b.Close()
	net := memory.NewNetwork()
	defer net.Cut()
	r, err := service.Start(service.Config{Data: folder, Memory: net, Listen: name + "service", Bench: demo.Config(b, 1)},
		slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer func() {
		if closed := r.Close(); err == nil {
			err = closed
		}
	}()
	text, err := os.ReadFile(filepath.Join(folder, service.LocalAccessFile))
	if err != nil {
		return err
	}
	var a service.LocalAccess
	if err := json.Unmarshal(text, &a); err != nil {
		return err
	}
	c := &client.Client{Server: a.Server, Token: a.Token,
		HTTP: &http.Client{Transport: &http.Transport{DialContext: net.DialHost, DisableKeepAlives: true}}}
	for _, text := range demo.Nameplates() {
		if _, err := c.PushNameplate(context.Background(), text); err != nil {
			return err
		}
	}
	for _, text := range procedureTexts() {
		if _, err := c.PushProcedure(context.Background(), text, ""); err != nil {
			return fmt.Errorf("%w\n%s", err, text)
		}
	}
	for _, text := range timelessTexts() {
		_, _ = c.PushProcedure(context.Background(), text, "") // it is refused, or the scenarios tell what comes of it
	}
	return nil
}
