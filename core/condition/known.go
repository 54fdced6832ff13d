package condition

import "sync"

// The trees of texts that were read before: a procedure is read again with every run that is started, judged or shown.
// Nobody changes a tree.
var (
	conditions  known[orExpr]
	expressions known[sumExpr]
)

// mostKnown bounds how many trees are kept.
const mostKnown = 1000

// known keeps trees by their texts. The zero value is ready; it is safe for use by several goroutines.
type known[T any] struct {
	mu    sync.Mutex
	trees map[string]*T
}

// tree is that of a text, which is read if it is not known.
func (k *known[T]) tree(text string, read func() (*T, error)) (*T, error) {
	k.mu.Lock()
	tree := k.trees[text]
	k.mu.Unlock()
	if tree != nil {
		return tree, nil
	}
	tree, err := read()
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.trees == nil || len(k.trees) >= mostKnown {
		k.trees = map[string]*T{}
	}
	k.trees[text] = tree
	return tree, nil
}
