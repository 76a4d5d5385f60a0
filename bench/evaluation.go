package main

import (
	"fmt"
	"testing/fstest"

	lua "github.com/yuin/gopher-lua"

	"knothole/core/project"
)

// program is one piece of work, written in both languages. Both get a number and give a text.
type program struct{ title, knothole, lua string }

var programs = []program{
	{"loops, 200,000 steps", `input n: int
let squares = for x in 1..n where x % 3 == 0 -> x * x % 1000
output result = "${list.sum(squares)}"
`, `
function run(n)
  local squares = {}
  for x = 1, n do
    if x % 3 == 0 then squares[#squares+1] = x * x % 1000 end
  end
  local sum = 0
  for _, x in ipairs(squares) do sum = sum + x end
  return tostring(sum)
end`},
	{"nested loops and folds", `input n: int
let rows = for a in 1..n / 400 -> list.fold(1..400, 0, fn(sum, b) = (sum + a * b) % 10007)
output result = "${list.sum(rows)}"
`, `
function run(n)
  local sum = 0
  for a = 1, math.floor(n / 400) do
    local row = 0
    for b = 1, 400 do row = (row + a * b) % 10007 end
    sum = sum + row
  end
  return tostring(sum)
end`},
	{"records, 20,000 built", `input n: int
let services = for i in 1..n / 10 -> {
  name: "svc"
  port: 8000 + i % 100
  replicas: i % 7
  labels: { part: "gauge", coast: "north" }
  limits: { cpu: i % 3, memory: 256 }
}
let weights = for s in services where s.labels.coast == "north" -> s.port + s.replicas * s.limits.cpu
output result = "${list.sum(weights)}"
`, `
function run(n)
  local services = {}
  for i = 1, math.floor(n / 10) do
    services[i] = {
      name = "svc",
      port = 8000 + i % 100,
      replicas = i % 7,
      labels = { part = "gauge", coast = "north" },
      limits = { cpu = i % 3, memory = 256 },
    }
  end
  local sum = 0
  for _, s in ipairs(services) do
    if s.labels.coast == "north" then sum = sum + s.port + s.replicas * s.limits.cpu end
  end
  return tostring(sum)
end`},
	{"texts, 50,000 built", `input n: int
let lines = for i in 1..n / 4 -> "gauge-${i}: level ${i * 3} of ${i % 17}"
output result = "${text.length(text.join(lines, "\n"))} ${text.slice(lines[77], 0, 12)}"
`, `
function run(n)
  local lines = {}
  for i = 1, math.floor(n / 4) do
    lines[i] = "gauge-" .. i .. ": level " .. (i * 3) .. " of " .. (i % 17)
  end
  return tostring(#table.concat(lines, "\n")) .. " " .. string.sub(lines[78], 1, 12)
end`},
	{"calls, 200,000 made", `input n: int
fn add(a: int, b: int) -> int = a + b
fn scale(a: int, by: int = 3) -> int = a * by % 1009
fn step(i: int) -> int = add(scale(i), scale(i, 5))
let all = for i in 1..n / 4 -> step(i)
output result = "${list.sum(all)}"
`, `
function add(a, b) return a + b end
function scale(a, by) if by == nil then by = 3 end return a * by % 1009 end
function step(i) return add(scale(i), scale(i, 5)) end
function run(n)
  local all = {}
  for i = 1, math.floor(n / 4) do all[i] = step(i) end
  local sum = 0
  for _, x in ipairs(all) do sum = sum + x end
  return tostring(sum)
end`},
	{"functions as values", `input n: int
let numbers = list.map(1..n / 4, fn(x) = x * 2)
let even = list.filter(numbers, fn(x) = x % 4 == 0)
output result = "${list.fold(even, 0, fn(sum, x) = sum + x)}"
`, `
function map(xs, f) local r = {} for i, x in ipairs(xs) do r[i] = f(x) end return r end
function filter(xs, f) local r = {} for _, x in ipairs(xs) do if f(x) then r[#r+1] = x end end return r end
function fold(xs, a, f) for _, x in ipairs(xs) do a = f(a, x) end return a end
function run(n)
  local numbers = {}
  for i = 1, math.floor(n / 4) do numbers[i] = i end
  local even = filter(map(numbers, function(x) return x * 2 end), function(x) return x % 4 == 0 end)
  return tostring(fold(even, 0, function(sum, x) return sum + x end))
end`},
}

const size = 200_000

// load checks the Knothole program and returns what evaluates it anew.
func (p program) load() func() string {
	files := fstest.MapFS{
		"main.knot":      {Data: []byte(p.knothole)},
		project.FileName: {Data: []byte("[environments.bench]\nlayers = [\"n.json\"]\n")},
		"n.json":         {Data: fmt.Appendf(nil, `{"n": %d}`, size)},
	}
	loaded, err := project.Load(files)
	must(err)
	for _, f := range loaded.Findings {
		fail(p.title + ": " + f.Message)
	}
	output := loaded.Unit().Module.Objects["result"]
	return func() string {
		w := loaded.Run(loaded.Environments[0]).World(false)
		v, ok := w.Value(output)
		if !ok {
			fail(p.title + ": " + w.Findings()[0].Message)
		}
		return v.Text()
	}
}

// loadLua returns what runs the other program, and what ends it.
func (p program) loadLua() (run func() string, end func()) {
	state := lua.NewState(lua.Options{RegistrySize: 1 << 20}) // table.concat puts all it joins on the stack
	must(state.DoString(p.lua))
	return func() string {
		must(state.CallByParam(lua.P{Fn: state.GetGlobal("run"), NRet: 1, Protect: true}, lua.LNumber(size)))
		result := state.Get(-1)
		state.Pop(1)
		return result.String()
	}, state.Close
}

func evaluation() {
	for _, p := range programs {
		run, end := p.loadLua()
		beside(p.title, side{"knothole", p.load()}, side{"gopher-lua", run}, true)
		end()
	}
}
