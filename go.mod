module knothole

go 1.26.0

require (
	filippo.io/age v1.3.2
	github.com/Masterminds/semver/v3 v3.5.0
	github.com/aymanbagabas/go-udiff v0.4.1
	github.com/fsnotify/fsnotify v1.10.1
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/rogpeppe/go-internal v1.16.0
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/net v0.58.0
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	filippo.io/hpke v0.4.0 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/crypto v0.55.0 // indirect
	golang.org/x/text v0.41.0 // indirect
	golang.org/x/tools v0.49.0 // indirect
)
