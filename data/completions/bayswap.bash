# Completion of bayswap for bash. The program itself says what can come next.
_bayswap() {
  local line kind=""
  local -a found=()
  COMPREPLY=()
  while IFS= read -r line; do
    case $line in
      :files | :folders) kind=$line ;;
      *) found+=("$line") ;;
    esac
  done < <("${COMP_WORDS[0]/#\~/$HOME}" __complete "$COMP_CWORD" "${COMP_WORDS[@]}" 2>/dev/null)
  if [ "${#found[@]}" -gt 0 ]; then
    mapfile -t COMPREPLY < <(printf '%q\n' "${found[@]}")
  fi
  if [ -n "$kind" ]; then
    compopt -o filenames 2>/dev/null
    local names
    if [ "$kind" = :folders ]; then
      mapfile -t names < <(compgen -d -- "${COMP_WORDS[COMP_CWORD]}")
    else
      mapfile -t names < <(compgen -f -- "${COMP_WORDS[COMP_CWORD]}")
    fi
    COMPREPLY+=("${names[@]}")
  fi
}
complete -F _bayswap bayswap
