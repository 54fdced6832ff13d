package trial

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"usherbench/instrument/dialect"
)

// The usual headers for what is set and measured, of SCPI-1999 and before. Only their questions are tried,
// which change nothing.
var (
	setHeaders = map[string][]string{
		"volts": {"VOLT", "SOUR:VOLT", "VOLT:LEV", "VSET"}, "amps": {"CURR", "SOUR:CURR", "CURR:LEV", "ISET"},
		"watts": {"POW", "SOUR:POW"}, "ohms": {"RES", "SOUR:RES"},
		"volts above": {"VOLT:PROT", "VOLT:PROT:LEV", "SOUR:VOLT:PROT"}, "amps above": {"CURR:PROT", "CURR:PROT:LEV",
			"SOUR:CURR:PROT"},
		"": {"OUTP", "OUTP:STAT", "INP", "INP:STAT", "FUNC", "SOUR:FUNC", "MODE"},
	}
	readHeaders = map[string][]string{
		"volts": {"MEAS:VOLT?", "MEAS:VOLT:DC?", "FETC:VOLT?", "READ:VOLT?", "VOUT?"}, "amps": {"MEAS:CURR?", "MEAS:CURR:DC?",
			"FETC:CURR?", "READ:CURR?", "IOUT?"},
		"watts": {"MEAS:POW?", "FETC:POW?"}, "ohms": {"MEAS:RES?", "MEAS:FRES?"}, "celsius": {"MEAS:TEMP?"},
		"hertz": {"MEAS:FREQ?"},
		"":      {"OUTP?", "OUTP:STAT?", "INP?", "INP:STAT?"},
	}
)

// channelList is how a message names the channel at its end: " (@{channel})".
var channelList = regexp.MustCompile(`\s*,?\s*\(@\{channel\}\)`)

// alternative looks for a question that the instrument answers, and words it; empty if none does.
func (t *trial) alternative(message, of string) string {
	if t.channel.Dialect.Protocol == dialect.Registers {
		return ""
	}
	list := ""
	if channelList.MatchString(message) {
		list = " (@{channel})"
	}
	for _, candidate := range readHeaders[of] {
		if t.answers(candidate+list) || list != "" && t.answers(candidate) {
			if list != "" && !t.answers(candidate+list) {
				list = ""
			}
			return fmt.Sprintf("write message: %q, which the instrument answers", candidate+list)
		}
	}
	return ""
}

// header looks for a header of a setting that the instrument knows, by its question; empty if the setting is
// sound or none is found.
func (t *trial) header(s dialect.Setter, of string) string {
	if t.channel.Dialect.Protocol == dialect.Registers || len(s.Messages) == 0 {
		return ""
	}
	message := s.Messages[0]
	written, rest, _ := strings.Cut(message, " ")
	list := ""
	if channelList.MatchString(message) {
		list = " (@{channel})"
	}
	if t.answers(strings.ReplaceAll(written, "{channel}", strconv.Itoa(t.channel.Number)) + "?" + list) {
		return ""
	}
	for _, candidate := range setHeaders[of] {
		if t.answers(candidate + "?" + list) {
			return fmt.Sprintf("write %q, whose question the instrument answers", candidate+" "+rest)
		}
	}
	return ""
}

// headerIf looks for a header if a setting failed.
func (t *trial) headerIf(err error, s dialect.Setter, of string) string {
	if err == nil {
		return ""
	}
	return t.header(s, of)
}

// answers tells whether the instrument answers a question without an error.
func (t *trial) answers(question string) bool {
	_, _ = t.queue() // and the connection is open again
	answer, err := t.channel.Ask(t.ctx, dialect.Query{Message: question})
	if t.channel.Dialect.Errors.Query == "" || t.channel.Dialect.Protocol == dialect.Registers {
		return err == nil && answer != ""
	}
	queue, queueErr := t.queue()
	return err == nil && queueErr == nil && answer != "" && len(queue) == 0
}

// queue reads the error queue, as soon as the connection, which is closed after a question without answer, is
// open again.
func (t *trial) queue() (queue []string, err error) {
	for range 20 {
		if queue, err = t.channel.Errors(t.ctx); err == nil {
			return queue, nil
		}
		select {
		case <-t.ctx.Done():
			return nil, t.ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil, err
}
