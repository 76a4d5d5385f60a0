#compdef knothole
# Completion of knothole in zsh: source <(knothole completion zsh)
_knothole() {
  local line files= word about
  local -a plain described
  for line in "${(@f)$(knothole completion words "${(@)words[2,CURRENT]}" 2>/dev/null)}"; do
    if [[ $line == :files ]]; then
      files=1
      continue
    fi
    [[ -z $line ]] && continue
    word=${line%%$'\t'*}
    plain+=("$word")
    if [[ $line == *$'\t'* ]]; then
      described+=("$word -- ${line#*$'\t'}")
    else
      described+=("$word")
    fi
  done
  (( ${#plain} )) && compadd -l -d described -a plain
  [[ -n $files ]] && _files
}
compdef _knothole knothole
