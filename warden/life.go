package warden

import (
	"io"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// Life is a warden at work, as the service sees it. What is written to it are the words of the service; with Close the
// words end.
type Life interface {
	io.WriteCloser
	SetWriteDeadline(t time.Time) error
	// Reports is what the warden says, until it ends.
	Reports() io.Reader
	// Wait waits for the end of the warden, after its reports have ended.
	Wait() error
	// Kill ends it; it may be gone already.
	Kill()
	// Pid is its process.
	Pid() int
}

// Launcher starts a warden that writes its log to a path.
type Launcher func(log string) (Life, error)

// Command launches a command, which must end in [Process], with the path of the log as its last argument.
func Command(command ...string) Launcher {
	return func(log string) (Life, error) {
		cmd := exec.Command(command[0], append(command[1:len(command):len(command)], log)...)
		// It has no part of the service's output, which somebody may wait for to end. In a group of its own: what is
		// meant for the service's terminal must not end it.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		in, pipe, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		defer in.Close() // the child has its own
		cmd.Stdin = in
		out, err := cmd.StdoutPipe()
		if err != nil {
			return nil, err
		}
		if err := cmd.Start(); err != nil {
			_ = pipe.Close() // the first error counts
			return nil, err
		}
		return &process{pipe, cmd, out}, nil
	}
}

// process is a warden that is a process.
type process struct {
	*os.File // its words
	cmd      *exec.Cmd
	out      io.Reader
}

func (p *process) Reports() io.Reader { return p.out }
func (p *process) Wait() error        { return p.cmd.Wait() }
func (p *process) Kill()              { _ = p.cmd.Process.Kill() }
func (p *process) Pid() int           { return p.cmd.Process.Pid }
