# Completion of bayswap for bash. The program itself says what can come next.
_bayswap() {
  local line kind=""
  local -a found=()
  COMPREPLY=()
  # The one that is installed, and not what was typed: a program of that name may lie in any folder.
  local program
  program=$(type -P bayswap) || return 0
  while IFS= read -r line; do
    case $line in
      :files | :folders) kind=$line ;;
      *) found+=("$line") ;;
    esac
  done < <("$program" __complete "$COMP_CWORD" "${COMP_WORDS[@]}" 2>/dev/null)
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
