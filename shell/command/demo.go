package command
import "flag"
var demoCommand = &command{name:"demo", short:"x", define: func(*flag.FlagSet) func(*call) int { return func(*call) int {return 0} }}
var newCommand = &command{name:"new", short:"x", define: func(*flag.FlagSet) func(*call) int { return func(*call) int {return 0} }}
