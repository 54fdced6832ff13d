package overlay

// Distinct gives n curves labels that differ. A label that several have is followed by what first tells some of them
// apart, then by what tells apart those that are still alike; the qualifiers are tried in order.
func Distinct(n int, label func(i int) string, qualifiers []func(i int) string) []string {
	labels := make([]string, n)
	var all []int
	for i := range n {
		labels[i] = label(i)
		all = append(all, i)
	}
	var part func(alike []int, next int)
	part = func(alike []int, next int) {
		groups := map[string][]int{}
		for _, i := range alike {
			groups[labels[i]] = append(groups[labels[i]], i)
		}
		for _, group := range groups {
			if len(group) == 1 || next == len(qualifiers) {
				continue
			}
			words := map[string]bool{}
			for _, i := range group {
				words[qualifiers[next](i)] = true
			}
			for _, i := range group {
				if word := qualifiers[next](i); len(words) > 1 && word != "" {
					labels[i] += " " + word
				}
			}
			part(group, next+1)
		}
	}
	part(all, 0)
	// What was told apart by different qualifiers may read alike again.
	for next := len(qualifiers) - 1; next >= 0; next-- {
		count := map[string]int{}
		for _, label := range labels {
			count[label]++
		}
		for i, label := range labels {
			if count[label] > 1 {
				labels[i] += " " + qualifiers[next](i)
			}
		}
	}
	return labels
}
