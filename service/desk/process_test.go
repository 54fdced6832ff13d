package desk_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/service/desk"
)

var taken [][]byte // by the greedy one

// greedy is the argument with which this program is the process of a desk, whose handler takes what memory it gets.
const greedy = "greedy"

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == greedy {
		if err := desk.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasPrefix(r.URL.Path, "/all") {
				for {
					part := make([]byte, 16<<20)
					for k := 0; k < len(part); k += 4096 {
						part[k] = 1
					}
					taken = append(taken, part)
				}
			}
			w.WriteHeader(http.StatusTeapot)
		})); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// What wants all the memory there is loses its process, and nobody else anything.
func TestMemoryIsBounded(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	d := desk.New(desk.Command(self, greedy))
	defer d.Close()
	ask := func(path string) (int, error) {
		w := httptest.NewRecorder()
		err := d.Answer(w, httptest.NewRequestWithContext(t.Context(), http.MethodGet, path, nil))
		return w.Code, err
	}
	status, err := ask("/little")
	assert.NoError(t, err)
	assert.Equal(t, http.StatusTeapot, status)
	_, err = ask("/all")
	assert.ErrorIs(t, err, desk.ErrEnded)
	status, err = ask("/little")
	assert.NoError(t, err)
	assert.Equal(t, http.StatusTeapot, status)
}
