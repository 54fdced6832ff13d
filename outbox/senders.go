package outbox

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/eclipse/paho.golang/paho"
)

// letter is a message on its way.
type letter struct {
	body   []byte
	at     time.Time
	id     uint
	secret string
}

// The names under which a letter says when it was sent, which message it is, and that nobody has changed it.
const (
	timeName      = "Usher-Time"
	messageName   = "Usher-Message"
	signatureName = "Usher-Signature"
)

// marks are what goes with the body, by name. The signature is HMAC-SHA256 by the secret over the time, a full stop and
// the body, as hexadecimal digits after "sha256="; without a secret there is none.
func (l letter) marks() map[string]string {
	at := l.at.UTC().Format(time.RFC3339Nano)
	all := map[string]string{timeName: at, messageName: strconv.FormatUint(uint64(l.id), 10)}
	if l.secret != "" {
		all[signatureName] = Sign(l.secret, at, l.body)
	}
	return all
}

// Sign is the signature of a body that is sent at a time.
func Sign(secret, at string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(at + "."))
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

// poster posts to the address that is configured, and to none to which that would send it on.
var poster = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// mostSaid bounds what is kept of a refusal.
const mostSaid = 200

func post(ctx context.Context, to *url.URL, l letter) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, to.String(), bytes.NewReader(l.body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "usher-bench")
	for name, text := range l.marks() {
		request.Header.Set(name, text)
	}
	answer, err := poster.Do(request)
	if err != nil {
		return errors.Unwrap(err) // what stands around it has the password of the address
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, mostSaid))
	if answer.StatusCode < 200 || answer.StatusCode >= 300 {
		return fmt.Errorf("it answered %s: %s", answer.Status, strings.Join(strings.Fields(string(said)), " "))
	}
	return nil
}

// mqttLinks are connections to brokers, by host and account. One that breaks is made anew with the next message.
type mqttLinks struct{ all map[string]*paho.Client }

func (m *mqttLinks) close() {
	for _, c := range m.all {
		_ = c.Disconnect(&paho.Disconnect{}) // the broker notices in any case
	}
}

// publish publishes a letter by MQTT 5 with quality of service 1: it went out when the broker has said that it has it.
func (m *mqttLinks) publish(ctx context.Context, to *url.URL, l letter) error {
	key := to.Scheme + "://" + to.User.String() + "@" + to.Host
	client := m.all[key]
	if client == nil {
		var err error
		if client, err = connect(ctx, to); err != nil {
			return err
		}
		if m.all == nil {
			m.all = map[string]*paho.Client{}
		}
		m.all[key] = client
	}
	message := &paho.Publish{QoS: 1, Topic: strings.TrimPrefix(to.Path, "/"), Payload: l.body,
		Properties: &paho.PublishProperties{ContentType: "application/json"}}
	for name, text := range l.marks() {
		message.Properties.User.Add(name, text)
	}
	answer, err := client.Publish(ctx, message)
	switch {
	case err != nil:
		delete(m.all, key)
		return fmt.Errorf("publish: %w", err)
	case answer != nil && answer.ReasonCode >= 0x80:
		return fmt.Errorf("the broker refused the message with code %#x", answer.ReasonCode)
	}
	return nil
}

// keepAlive is how often a broker hears something, s.
const keepAlive = 30

func connect(ctx context.Context, to *url.URL) (*paho.Client, error) {
	host, port := to.Hostname(), to.Port()
	if port == "" {
		port = map[string]string{"mqtt": "1883", "mqtts": "8883"}[to.Scheme]
	}
	address := net.JoinHostPort(host, port)
	var link net.Conn
	var err error
	if to.Scheme == "mqtts" {
		link, err = (&tls.Dialer{Config: &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}}).DialContext(ctx,
			"tcp", address)
	} else {
		link, err = (&net.Dialer{}).DialContext(ctx, "tcp", address)
	}
	if err != nil {
		return nil, err
	}
	client := paho.NewClient(paho.ClientConfig{Conn: link})
	hello := &paho.Connect{KeepAlive: keepAlive, CleanStart: true, ClientID: ""}
	if to.User != nil {
		password, has := to.User.Password()
		hello.Username, hello.UsernameFlag = to.User.Username(), true
		hello.Password, hello.PasswordFlag = []byte(password), has
	}
	answer, err := client.Connect(ctx, hello)
	if err != nil {
		link.Close()
		return nil, fmt.Errorf("connect to the broker: %w", err)
	}
	if answer.ReasonCode != 0 {
		link.Close()
		return nil, fmt.Errorf("the broker refused the connection with code %#x", answer.ReasonCode)
	}
	return client, nil
}

// write writes the report of a run into the folder of reports: whole, or not at all.
func (o *Outbox) write(ctx context.Context, run string) error {
	name, data, err := o.report(ctx, run)
	if err != nil {
		return err
	}
	path := filepath.Join(o.folder, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".report-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // gone already if all went well
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
