#!/usr/bin/env bash
# Makes the pictures in docs/screenshots from the demo project: a terminal of 100 columns under a virtual display,
# cropped to what it shows, so that a picture can be read at the width of a page of a code host.
# Needs Xvfb, xterm, xsetroot, ImageMagick, chromium and the DejaVu fonts.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"; kill "$display" 2>/dev/null || true' EXIT
CGO_ENABLED=0 go build -o "$work/knothole" ./cmd/knothole
"$work/knothole" demo "$work/flood-watch" >/dev/null

Xvfb :77 -noreset -screen 0 1280x1500x24 >/dev/null 2>&1 &
display=$!
sleep 1
DISPLAY=:77 xsetroot -solid '#12181f' # as the terminal, where that is narrower

# shot NAME FOLDER COMMAND [COLUMNS] shows a command and what it prints.
shot() {
  local shown=${3%% --quiet*} size=12 geometry=${4:-100}x66
  printf 'cd %q; PATH=%q:$PATH; clear; printf "$ %%s\\n\\n" %q; %s 2>&1 | cat >%q; %s 2>&1; printf "\\033[?25l"; touch %q; sleep 5\n' \
    "$work/flood-watch/$2" "$work" "$shown" "true" /dev/null "$3" "$work/done" >"$work/run"
  rm -f "$work/done"
  DISPLAY=:77 xterm -fa 'DejaVu Sans Mono' -fs "$size" -geometry "$geometry+0+0" -bg '#12181f' -fg '#d3d9df' -b 6 -bw 0 +sb \
    -xrm 'xterm*color1: #ef8a7a' -xrm 'xterm*color2: #93cf8c' -xrm 'xterm*color6: #86c5dd' -xrm 'xterm*color3: #e3c56b' \
    -xrm 'xterm*boldColors: false' -e bash "$work/run" &
  for _ in $(seq 50); do [ -e "$work/done" ] && break; sleep 0.1; done
  sleep 0.7
  DISPLAY=:77 import -window root "docs/screenshots/$1.png"
  kill %% 2>/dev/null; wait %% 2>/dev/null || true
  convert "docs/screenshots/$1.png" -trim +repage -bordercolor '#12181f' -border 14 "docs/screenshots/$1.png"
}

shot diff . 'knothole diff rehearsal north --quiet --color always | head -48'
shot diff-all . 'knothole diff --all --quiet --color always | head -48'

# A change in a repository of its own.
cp -r "$work/flood-watch" "$work/changed" && mv "$work/changed" "$work/flood-watch/changed"
(
  cd "$work/flood-watch/changed"
  git init -q . && git add -A && git -c user.name=heron -c user.email=heron@floodwatch.example commit -q -m 'as it was'
  sed -i 's/^bay_map = 6/bay_map = 8/' inputs/north.toml
  sed -i 's/"rehearsal" *-> *"info"/"rehearsal" -> "debug"/' main.knot
  sed -i 's/^mudflat_cache = 3/mudflat_cache = 4/' inputs/north.toml
)
shot impact changed 'knothole impact'
rm -rf "$work/flood-watch/changed"

# What runs, with three things in it that nobody rendered.
(
  cd "$work/flood-watch"
  "$work/knothole" render north --stream --quiet |
    sed -e 's/^  replicas: 6/  replicas: 4/' -e 's/bay-map:4.2.0/bay-map:4.1.9/' \
      -e 's/cpu: 500m/cpu: "0.5"/' >running.yaml
  printf '%s\n' --- 'apiVersion: v1' 'kind: ConfigMap' 'metadata:' '  name: storm-notes' \
    '  labels: { app.floodwatch.example/part-of: flood-watch }' >>running.yaml
)
shot drift . 'knothole drift north running.yaml --owner app.floodwatch.example/part-of=flood-watch'
rm "$work/flood-watch/running.yaml"

# Several mistakes at once, each in a copy of the demo.
cd "$work/flood-watch"
mkdir many && cp -r knothole.toml main.knot lib rules data inputs infra schemas secrets vendor many/
cp errors/misspelt-input/inputs/north.toml many/inputs/north.toml
sed -i 's/^bay_map = 6/bay_map = 0/' many/inputs/north.toml
cp errors/forgotten-environment/lib/labels.knot many/lib/labels.knot
sed -i 's/port: 9000/port: "9000"/; s/LOG_LEVEL: log_level, TILE/LOG_LEVEL: loglevel, TILE/; s/BANNER: banner? }/BANNER: banner?/' many/main.knot
cd - >/dev/null
shot check many 'knothole check'

# Seven standards broken by a new service; and the rules that are in force.
shot broken errors/broken-standards 'knothole check --quiet --color always | head -46'
shot rules . 'knothole rules --quiet --color always | head -46'

# The vendor renamed a container, and the patches of it match no more.
shot patch errors/vendor-renamed 'knothole check'

shot inputs . 'knothole inputs'
shot why . 'knothole why north k8s/bay-map.yaml spec.replicas; echo; knothole why --all north k8s/bay-map.yaml spec.replicas'
shot look . "knothole look 'spec.template.spec.containers[*].image'"
shot annotate . 'knothole render north --annotate --only k8s/bay-map.yaml'
shot secret errors/secret-exposed 'knothole check'
shot rendered . 'knothole check --rendered --project errors/edited-rendering'

# Rendered files with mistakes in them, validated without the project.
cd "$work/flood-watch"
knothole=$work/knothole
"$knothole" render north --quiet --to plain
mkdir written && cp plain/north/k8s/{bay-map,siren-router}.yaml plain/north/k8s/gauge-feeds/{heron-pier,old-lock}.yaml written/
sed -i 's/replicas:/replica:/; s/containerPort: \([0-9]*\)/containerPort: "\1"/' written/bay-map.yaml
sed -i 's/imagePullPolicy: .*/imagePullPolicy: Allways/; s/kind: Deployment/kind: Deploiment/' written/siren-router.yaml
sed -i 's/alarmCentimetres: .*/alarmCentimetres: 20/' written/heron-pier.yaml
printf '  watchCentimetres: 600\n' >>written/old-lock.yaml
cd - >/dev/null
shot validate . 'knothole validate written --catalogue schemas/kinds'
shot schema . "knothole schema show Deployment 'spec.template.spec.containers[]' --depth 1"

# A page, in a browser.
"$work/knothole" report --quiet --project "$work/flood-watch" --to "$work/report.html"
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1600 \
  --screenshot="docs/screenshots/report.png" "file://$work/report.html" >/dev/null 2>&1
