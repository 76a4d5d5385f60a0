# Completion of knothole in bash: source <(knothole completion bash)
_knothole() {
  local line files= words=("${COMP_WORDS[@]:1:COMP_CWORD}")
  # Bash takes = and : for ends of words; put together what a person sees as one.
  local prefix=
  if [[ ${COMP_WORDBREAKS} == *[=:]* ]]; then
    local typed=${COMP_LINE:0:COMP_POINT} last
    last=${typed##*[[:space:]]}
    if [[ $last == *[=:]* ]]; then
      prefix=${last%"${last##*[=:]}"}
      read -ra words <<< "${typed#*[[:space:]]}"
    fi
  fi
  COMPREPLY=()
  while IFS= read -r line; do
    if [[ $line == :files ]]; then
      files=1
      continue
    fi
    line=${line%%$'\t'*}
    line=${line#"$prefix"}
    # A name of the project may hold anything: what the shell would not take for a plain word is quoted.
    if [[ $line != "${line//[^A-Za-z0-9_.\/:=@%+,-]/}" ]]; then
      [[ ${COMP_WORDS[COMP_CWORD]} == [\'\"]* ]] && continue
      printf -v line %q "$line"
    fi
    COMPREPLY+=("$line")
  done < <(knothole completion words "${words[@]}" 2>/dev/null)
  if [[ -n $files ]]; then
    local cur=${COMP_WORDS[COMP_CWORD]}
    while IFS= read -r line; do
      COMPREPLY+=("$line")
    done < <(compgen -f -- "$cur")
    compopt -o filenames 2>/dev/null
  fi
  if [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[=.] ]]; then
    compopt -o nospace 2>/dev/null
  fi
}
complete -F _knothole knothole
