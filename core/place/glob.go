package place

import "strings"

// Match reports whether the path of a document matches a pattern: `*` stands for any characters but /, `?` for one of
// them, and `**` between slashes for any number of folders, none too.
func Match(pattern, path string) bool {
	return matchParts(strings.Split(pattern, "/"), strings.Split(path, "/"))
}

// matchParts matches part by part. As with stars in one part, only the last `**` has to be tried again.
func matchParts(pattern, path []string) bool {
	i, j, deep, from := 0, 0, -1, 0
	for j < len(path) {
		switch {
		case i < len(pattern) && pattern[i] == "**":
			deep, from = i, j
			i++
		case i < len(pattern) && matchPart(pattern[i], path[j]):
			i++
			j++
		case deep >= 0:
			from++
			i, j = deep+1, from
		default:
			return false
		}
	}
	for i < len(pattern) && pattern[i] == "**" {
		i++
	}
	return i == len(pattern)
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
