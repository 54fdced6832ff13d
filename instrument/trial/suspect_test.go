package trial_test

import (
	"bufio"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
	"usherbench/instrument/transport/memory"
	"usherbench/instrument/trial"
)

// endsWith listens for messages that end as told, and answers each with its identity and an end of its own.
func endsWith(t *testing.T, heard byte, said string) (address string) {
	l, err := memory.Listen("")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				for r := bufio.NewReader(conn); ; {
					if _, err := r.ReadString(heard); err != nil {
						return
					}
					fmt.Fprint(conn, "Usher Bench,SIM-L1,7,1"+said)
				}
			}()
		}
	}()
	return "memory://" + l.Addr().String()
}

func suspicion(t *testing.T, address, text string) string {
	library, err := dialect.Load("")
	require.NoError(t, err)
	text = strings.Replace(text, "answers within: 200 ms", "answers within: 50 ms", 1)
	d, err := library.Read(dialect.Source{File: "mine.yaml", Text: text})
	require.NoError(t, err)
	i, err := instrument.Open("one", address, d)
	require.NoError(t, err)
	steps := trial.Run(t.Context(), i, trial.Options{})
	require.Equal(t, trial.Wrong, steps[len(steps)-1].Verdict, "%+v", steps)
	return steps[len(steps)-1].What + "; " + steps[len(steps)-1].Remedy
}

func TestAWrongEndOfMessagesIsSuspectedByName(t *testing.T) {
	simulated(t, aWrongEndOfMessagesIsSuspectedByName)
}

func aWrongEndOfMessagesIsSuspectedByName(t *testing.T) {
	assert.Contains(t, suspicion(t, endsWith(t, '\r', "\r"), sound),
		`it answers when messages end with CR ("Usher Bench,SIM-L1,7,1"): in the dialect write terminator: {send: CR}`)
	assert.Contains(t, suspicion(t, endsWith(t, ';', ";"), sound), "write terminator: {send: semicolon}")
	assert.Contains(t, suspicion(t, endsWith(t, '\n', "\r"), sound),
		`"Usher Bench,SIM-L1,7,1\r" came, but not "\n", with which its dialect ends an answer`)
}

func TestAWrongUnitIsSuspectedByName(t *testing.T) { simulated(t, aWrongUnitIsSuspectedByName) }

func aWrongUnitIsSuspectedByName(t *testing.T) {
	b := bench(t)
	for _, i := range b.Instruments() {
		a, err := transport.Parse(i.Address)
		require.NoError(t, err)
		if a.As != transport.ModbusRTU {
			continue
		}
		u, err := url.Parse(i.Address)
		require.NoError(t, err)
		q := u.Query()
		q.Set("unit", fmt.Sprint(a.Unit+1))
		u.RawQuery = q.Encode()
		said := suspicion(t, u.String(), "dialect: mine\nfrom: sim-"+i.Kind+"\nanswers within: 200 ms\n")
		assert.Contains(t, said, fmt.Sprintf("unit %d does not answer, but unit", a.Unit+1))
		assert.Contains(t, said, fmt.Sprintf("unit=%d in its address", a.Unit))
		return
	}
	require.Fail(t, "there is no instrument on a line of registers")
}
