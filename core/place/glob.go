package place

import "strings"

// Match reports whether the path of a document matches a pattern: `*` stands for any characters but /, `?` for one of
// them, and `**` between slashes for any number of folders, none too.
func Match(pattern, path string) bool {
	return matchParts(strings.Split(pattern, "/"), strings.Split(path, "/"))
}

func matchParts(pattern, path []string) bool {
	for len(pattern) > 0 {
		if pattern[0] == "**" {
			rest := pattern[1:]
			if len(rest) == 0 {
				return true
			}
			for i := range path {
				if matchParts(rest, path[i:]) {
					return true
				}
			}
			return false
		}
		if len(path) == 0 || !matchPart(pattern[0], path[0]) {
			return false
		}
		pattern, path = pattern[1:], path[1:]
	}
	return len(path) == 0
}

// matchPart matches one part without going back further than to the last star, so that it takes at most the product
// of the lengths.
func matchPart(pattern, text string) bool {
	p, t := []rune(pattern), []rune(text)
	i, j, star, from := 0, 0, -1, 0
	for j < len(t) {
		switch {
		case i < len(p) && p[i] == '*':
			star, from = i, j
			i++
		case i < len(p) && (p[i] == '?' || p[i] == t[j]):
			i++
			j++
		case star >= 0:
			from++
			i, j = star+1, from
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}
