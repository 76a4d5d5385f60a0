package gate

// HasModes says whether the mode of a file says who may read it. Here that is for lists of access, which a file has
// from its directory.
const HasModes = false
