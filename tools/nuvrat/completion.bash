# Completion of nuvrat's verbs, options and goals for bash.
_nuvrat() {
  local current=${COMP_WORDS[COMP_CWORD]} previous=${COMP_WORDS[COMP_CWORD-1]} verb=${COMP_WORDS[1]}
  local reading="--json --sector-size --physical-sector-size --timezone --codepage --help"
  local job="--case --confirm --undo --proof --accept-unreadable --case-in-memory --events --overwrite --fault --fault-on-a-real-device"
  COMPREPLY=()
  if [ "$COMP_CWORD" = 1 ]; then
    COMPREPLY=($(compgen -W "survey check files fetch manifest assess rewrite verify resume revert report
      --help --version" -- "$current"))
    return
  fi
  # bash takes "table=gpt" apart at the "=".
  if [ "$current" = "=" ]; then previous="=" current=; fi
  if [ "$previous" = "=" ] && { [ "$verb" = assess ] || [ "$verb" = rewrite ]; }; then
    local at=$((COMP_CWORD - 1)) subject
    [ "${COMP_WORDS[COMP_CWORD]}" = "=" ] || at=$((COMP_CWORD - 2))
    subject=${COMP_WORDS[at]}
    case "$subject" in
      table) COMPREPLY=($(compgen -W "gpt mbr" -- "$current")) ;;
      volume) COMPREPLY=($(compgen -W "ntfs fat32 fat16" -- "$current")) ;;
      names) COMPREPLY=($(compgen -W "safe" -- "$current")) ;;
      volume.cluster | p*.cluster)
        COMPREPLY=($(compgen -W "512 1KiB 2KiB 4KiB 8KiB 16KiB 32KiB 64KiB" -- "$current")) ;;
      p*.active) COMPREPLY=($(compgen -W "yes no" -- "$current")) ;;
      p*.type) COMPREPLY=($(compgen -W "match" -- "$current")) ;;
      volume.size | p*.size) COMPREPLY=($(compgen -W "max min" -- "$current")) ;;
      p*.front) COMPREPLY=($(compgen -W "max" -- "$current")) ;;
      boot) COMPREPLY=($(compgen -W "uefi legacy" -- "$current")) ;;
      p*.name | p*.label | volume.label | p*.letter | esp) ;;
      p*) COMPREPLY=($(compgen -W "ntfs fat32 fat16 logical primary gone" -- "$current")) ;;
      g*) COMPREPLY=($(compgen -W "ntfs fat32 fat16 raw" -- "$current")) ;;
    esac
    return
  fi
  case "$previous" in
    --sector-size) COMPREPLY=($(compgen -W "512 4096" -- "$current")); return ;;
    --rename) COMPREPLY=($(compgen -W "safe" -- "$current")); return ;;
    --proof) COMPREPLY=($(compgen -W "contents places" -- "$current")); return ;;
    --undo) COMPREPLY=($(compgen -W "full live" -- "$current")); return ;;
    --unowned) COMPREPLY=($(compgen -W "free keep" -- "$current")); return ;;
    --format) COMPREPLY=($(compgen -W "nuvrat sha256sum" -- "$current")); return ;;
    --physical-sector-size | --technician | --owner | --job | --confirm | --codepage | --seed | --fault | --timezone) return ;;
    --case | --events | --against | --output | -o | --disk) compopt -o default; return ;;
  esac
  local options=
  case "$verb" in
    survey) options=$reading ;;
    check) options="$reading $job --repair --unowned --awake" ;;
    files) options=$reading ;;
    fetch) options="$reading --output --against --events --overwrite" ;;
    manifest) options="$reading --output --format --events --overwrite" ;;
    assess) options="$reading --rename --awake --seed" ;;
    rewrite) options="$reading $job --rehearse --rename --awake --seed" ;;
    verify) options="$reading --against --events --overwrite" ;;
    resume) options="--json --disk --confirm --events --overwrite --fault --fault-on-a-real-device --sector-size --help" ;;
    revert) options="--json --disk --confirm --events --overwrite --fault --fault-on-a-real-device --discard-later-changes --help" ;;
    report) options="--json --technician --owner --job --output --overwrite --disk --help" ;;
  esac
  if [[ $current == -* ]]; then
    COMPREPLY=($(compgen -W "$options" -- "$current"))
  elif [ "$COMP_CWORD" -gt 2 ] && { [ "$verb" = assess ] || [ "$verb" = rewrite ]; }; then
    compopt -o nospace
    COMPREPLY=($(compgen -W "table= volume= p1= p2= p3= p4= p5= p1.active= p1.name= p1.type= p1.cluster= p1.size= p1.front= p1.label= p1.letter= g1= names= boot= esp=" -- "$current"))
  else
    compopt -o default
  fi
}
complete -F _nuvrat nuvrat
