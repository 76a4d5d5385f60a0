package check

// OtherNames are what functions are called elsewhere.
var OtherNames = otherNames
