module knothole/bench

go 1.26.0

replace knothole => ../

require (
	github.com/stretchr/testify v1.12.1
	github.com/yuin/gopher-lua v1.1.2
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/sync v0.24.0
	knothole v0.0.0-00010101000000-000000000000
)

require (
	github.com/Masterminds/semver/v3 v3.5.0 // indirect
	github.com/pelletier/go-toml/v2 v2.4.3 // indirect
	github.com/rogpeppe/go-internal v1.16.0 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/tools v0.49.0 // indirect
)
