module knothole

go 1.26.0

require (
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/fatih/color v1.19.0
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/sync v0.24.0
	golang.org/x/term v0.47.0
)

require (
	github.com/aymanbagabas/go-udiff v0.4.1 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/tools v0.26.0 // indirect
)
