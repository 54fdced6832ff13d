// Package outbox tells others of every run that has ended, and writes its report into a folder. What is to be sent is
// on record first, so that it survives a restart, and is tried again until it went out: everybody is told at least
// once, and by the number of the message knows what came twice.
package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/procedure"
	"usherbench/store"
)

// Timing of the outbox.
const (
	looksEvery = 250 * time.Millisecond // for runs that have ended, and messages whose time has come
	within     = 15 * time.Second       // for one message to go out
	writing    = 5 * time.Minute        // for a report to be made and written
	longest    = 10 * time.Minute       // between two tries
	atOnce     = 20                     // messages that are looked at together
	backTo     = 30 * 24 * time.Hour    // how old the end of a run may be of which somebody is still told
)

// Reporter makes the report of a run, with the file name that it is to have.
type Reporter func(ctx context.Context, run string) (name string, data []byte, err error)

// Outbox sends what is to be sent. Open one, and close it.
type Outbox struct {
	store  *store.Store
	log    *slog.Logger
	folder string // in which reports are written
	report Reporter
	cancel context.CancelFunc
	done   chan struct{}
	looked time.Time // up to when ends of runs were looked for
	mqtt   mqttLinks
	set    chan api.Office // what the office has set anew
}

// Open begins to send. Reports are written below a folder.
func Open(s *store.Store, folder string, report Reporter, log *slog.Logger) *Outbox {
	ctx, cancel := context.WithCancel(context.Background())
	o := &Outbox{store: s, log: log, folder: folder, report: report, cancel: cancel, done: make(chan struct{}),
		set: make(chan api.Office)}
	go o.serve(ctx)
	return o
}

// Close ends sending; what was not sent is sent when the service is back.
func (o *Outbox) Close() {
	o.cancel()
	<-o.done
}

// Set says what the office has set anew.
func (o *Outbox) Set(office api.Office) {
	select {
	case o.set <- office:
	case <-o.done:
	}
}

// serve looks every now and then, while there is anybody to tell.
func (o *Outbox) serve(ctx context.Context) {
	defer close(o.done)
	defer o.mqtt.close()
	var office api.Office
	if err := o.store.Setting(archive.OfficeSetting, &office); err != nil {
		o.log.Error("what the office has set", "err", err)
	}
	for {
		var again <-chan time.Time
		if len(told(office)) > 0 {
			again = time.After(looksEvery)
		}
		select {
		case <-ctx.Done():
			return
		case office = <-o.set:
			if err := o.dropOthers(office); err != nil {
				o.log.Error("the outbox", "err", err)
			}
		case <-again:
			if err := o.look(ctx, office); err != nil && ctx.Err() == nil {
				o.log.Error("the outbox", "err", err)
			}
		}
	}
}

// dropOthers forgets what was for those who are told no longer.
func (o *Outbox) dropOthers(office api.Office) error {
	var still []string
	for _, t := range told(office) {
		still = append(still, t.To)
	}
	return o.store.DropMessages(still)
}

// look addresses what has ended since the last look, and sends what is due.
func (o *Outbox) look(ctx context.Context, office api.Office) error {
	now := o.store.Now()
	since := o.looked.Add(-time.Minute) // an end is on record a little after it happened
	if o.looked.IsZero() || now.Before(o.looked) {
		since = now.Add(-backTo)
	}
	for _, t := range told(office) {
		from := since
		if t.Since.After(from) {
			from = t.Since
		}
		if err := o.store.Address([]string{t.To}, from); err != nil {
			return err
		}
		if err := o.sendTo(ctx, t); err != nil {
			return err
		}
	}
	o.looked = now
	return nil
}

// sendTo sends what is due to one address, in order: while the oldest cannot be sent the others wait, and nobody else.
func (o *Outbox) sendTo(ctx context.Context, to api.Told) error {
	due, err := o.store.ToSend(to.To, atOnce)
	if err != nil {
		return err
	}
	for _, m := range due {
		if m.Next.After(o.store.Now()) {
			return nil
		}
		if err := o.try(ctx, to, m); err != nil {
			return err
		}
	}
	return nil
}

// folderScheme is before the folder of reports, as one that is told.
const folderScheme = "folder"

// told are all who are told, the folder of reports among them.
func told(office api.Office) []api.Told {
	all := append([]api.Told{}, office.Tell...)
	if office.Reports != "" {
		all = append(all, api.Told{To: folderScheme + ":" + office.Reports, Since: office.ReportsSince})
	}
	return all
}

// try sends a message, and keeps what became of it.
func (o *Outbox) try(ctx context.Context, to api.Told, m store.Message) error {
	most := within
	if strings.HasPrefix(to.To, folderScheme+":") {
		most = writing
	}
	sending, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	m.Tries++
	err := o.send(sending, to, m)
	if err != nil && ctx.Err() != nil {
		return ctx.Err() // the service ends: that is no try
	}
	if err != nil {
		m.Error = err.Error()
		m.Next = o.store.Now().Add(min(time.Second<<min(m.Tries-1, 20), longest))
		if m.Tries == 1 {
			o.log.Warn("tell of a run", "to", Shown(m.To), "run", m.RunID, "err", err)
		}
	} else {
		now := o.store.Now()
		m.Sent, m.Error = &now, ""
	}
	return o.store.PutMessage(m)
}

func (o *Outbox) send(ctx context.Context, to api.Told, m store.Message) error {
	address, err := url.Parse(to.To)
	if err != nil {
		return err
	}
	if address.Scheme == folderScheme {
		return o.write(ctx, m.RunID)
	}
	run, err := o.store.Run(m.RunID)
	if err != nil {
		return err
	}
	figures, err := o.store.Figures(m.RunID)
	if err != nil {
		return err
	}
	if figures == nil {
		figures = []procedure.Judged{}
	}
	body, err := json.Marshal(api.RunEnded{Event: "run-ended", Message: m.ID, Run: run.Summary(), Figures: figures})
	if err != nil {
		return err
	}
	letter := letter{body: body, at: o.store.Now(), id: m.ID, secret: to.Secret}
	switch address.Scheme {
	case "http", "https":
		return post(ctx, address, letter)
	case "mqtt", "mqtts":
		return o.mqtt.publish(ctx, address, letter)
	}
	return fmt.Errorf("nobody can be told at %s", Shown(to.To))
}

// Check says what is wrong with an address.
func Check(to string) error {
	u, err := url.Parse(to)
	switch {
	case err != nil:
		return fmt.Errorf("%q is no address: %w", to, err)
	case u.Host == "":
		return fmt.Errorf("%q names no host", to)
	case u.Scheme == "http", u.Scheme == "https":
	case u.Scheme == "mqtt", u.Scheme == "mqtts":
		if len(u.Path) < 2 {
			return fmt.Errorf("%q names no topic; write mqtt://host:1883/topic", to)
		}
	default:
		return fmt.Errorf("%q: an address begins with https://, http://, mqtts:// or mqtt://", to)
	}
	return nil
}

// Shown is an address without the password in it.
func Shown(to string) string {
	u, err := url.Parse(to)
	if err != nil {
		return to
	}
	return u.Redacted()
}
