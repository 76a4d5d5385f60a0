package place

import "strings"

// Match reports whether the path of a document matches a pattern: `*` stands for any characters but /, `?` for one of
// them, and `**` between slashes for any number of directories, none too.
func Match(pattern, path string) bool {
	return matchParts(strings.Split(pattern, "/"), strings.Split(path, "/"))
}

// matchParts matches part by part.
func matchParts(pattern, path []string) bool {
	return matchStars(pattern, path, func(p string) bool { return p == "**" }, matchPart)
}

// matchPart matches one part, character by character.
func matchPart(pattern, text string) bool {
	return matchStars([]rune(pattern), []rune(text), func(p rune) bool { return p == '*' },
		func(p, t rune) bool { return p == '?' || p == t })
}

// matchStars matches a pattern whose stars stand for any number of elements. Only the last star has to be tried again,
// so that it takes at most the product of the lengths.
func matchStars[T any](pattern, text []T, isStar func(T) bool, matches func(p, t T) bool) bool {
	i, j, star, from := 0, 0, -1, 0
	for j < len(text) {
		switch {
		case i < len(pattern) && isStar(pattern[i]):
			star, from = i, j
			i++
		case i < len(pattern) && matches(pattern[i], text[j]):
			i++
			j++
		case star >= 0:
			from++
			i, j = star+1, from
		default:
			return false
		}
	}
	for i < len(pattern) && isStar(pattern[i]) {
		i++
	}
	return i == len(pattern)
}
