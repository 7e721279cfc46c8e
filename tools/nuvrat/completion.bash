# Made by scripts/words from the tool's own help.
_nuvrat() {
  local current=${COMP_WORDS[COMP_CWORD]} previous=${COMP_WORDS[COMP_CWORD-1]} verb=${COMP_WORDS[1]}
  COMPREPLY=()
  if [ "$COMP_CWORD" = 1 ]; then
    COMPREPLY=($(compgen -W "survey check files fetch manifest assess rewrite verify resume revert report --help --version" -- "$current"))
    return
  fi
  # bash takes "table=gpt" apart at the "=".
  if [ "$current" = "=" ]; then previous="=" current=; fi
  if [ "$previous" = "=" ]; then
    local at=$((COMP_CWORD - 1))
    [ "${COMP_WORDS[COMP_CWORD]}" = "=" ] || at=$((COMP_CWORD - 2))
    case "$verb:${COMP_WORDS[at]}" in
      assess:p*.cluster | rewrite:p*.cluster) COMPREPLY=($(compgen -W "512 1KiB 2KiB 4KiB 8KiB 16KiB 32KiB 64KiB" -- "$current")) ;;
      assess:volume.cluster | rewrite:volume.cluster) COMPREPLY=($(compgen -W "512 1KiB 2KiB 4KiB 8KiB 16KiB 32KiB 64KiB" -- "$current")) ;;
      assess:p*.size | rewrite:p*.size) COMPREPLY=($(compgen -W "max min" -- "$current")) ;;
      assess:volume.size | rewrite:volume.size) COMPREPLY=($(compgen -W "max min" -- "$current")) ;;
      assess:p*.front | rewrite:p*.front) COMPREPLY=($(compgen -W "max" -- "$current")) ;;
      assess:p*.label | rewrite:p*.label) COMPREPLY=($(compgen -W "" -- "$current")) ;;
      assess:volume.label | rewrite:volume.label) COMPREPLY=($(compgen -W "" -- "$current")) ;;
      assess:p*.active | rewrite:p*.active) COMPREPLY=($(compgen -W "yes no" -- "$current")) ;;
      assess:p*.name | rewrite:p*.name) COMPREPLY=($(compgen -W "" -- "$current")) ;;
      assess:p*.type | rewrite:p*.type) COMPREPLY=($(compgen -W "match" -- "$current")) ;;
      assess:p*.letter | rewrite:p*.letter) COMPREPLY=($(compgen -W "" -- "$current")) ;;
      assess:table | rewrite:table) COMPREPLY=($(compgen -W "gpt mbr" -- "$current")) ;;
      assess:p* | rewrite:p*) COMPREPLY=($(compgen -W "primary logical ntfs fat32 fat16 gone" -- "$current")) ;;
      assess:volume | rewrite:volume) COMPREPLY=($(compgen -W "ntfs fat32 fat16" -- "$current")) ;;
      assess:names | rewrite:names) COMPREPLY=($(compgen -W "safe" -- "$current")) ;;
      assess:g* | rewrite:g*) COMPREPLY=($(compgen -W "ntfs fat32 fat16 raw" -- "$current")) ;;
      assess:boot | rewrite:boot) COMPREPLY=($(compgen -W "uefi legacy" -- "$current")) ;;
      assess:esp | rewrite:esp) COMPREPLY=($(compgen -W "" -- "$current")) ;;
    esac
    return
  fi
  local options=
  case "$verb" in
    survey) options="--help --json --sector-size --physical-sector-size --timezone --codepage" ;;
    check) options="--help --json --sector-size --physical-sector-size --timezone --codepage --repair --unowned --awake --case --confirm --details --undo --proof --case-in-memory --accept-unreadable --events --overwrite --fault" ;;
    files) options="--help --json --sector-size --physical-sector-size --timezone --codepage" ;;
    fetch) options="--help --json --sector-size --physical-sector-size --timezone --codepage --output --against --events --overwrite" ;;
    manifest) options="--help --json --sector-size --physical-sector-size --timezone --codepage --output --events --overwrite --format" ;;
    assess) options="--help --json --sector-size --physical-sector-size --timezone --codepage --details --seed --awake" ;;
    rewrite) options="--help --json --sector-size --physical-sector-size --timezone --codepage --case --confirm --details --undo --proof --case-in-memory --accept-unreadable --events --overwrite --fault --rehearse --seed --awake" ;;
    verify) options="--help --json --sector-size --physical-sector-size --timezone --codepage --against --events --overwrite" ;;
    resume) options="--help --json --disk --confirm --events --overwrite --fault --sector-size" ;;
    revert) options="--help --json --disk --confirm --events --overwrite --fault --discard-later-changes" ;;
    report) options="--help --json --disk --output --overwrite --technician --owner --job" ;;
  esac
  case "$previous" in
    --against) compopt -o default; return ;;
    --case) compopt -o default; return ;;
    --codepage) return ;;
    --confirm) return ;;
    --disk) compopt -o default; return ;;
    --events) compopt -o default; return ;;
    --fault) return ;;
    --format) COMPREPLY=($(compgen -W "nuvrat sha256sum" -- "$current")); return ;;
    --job) return ;;
    --output) compopt -o default; return ;;
    --owner) return ;;
    --physical-sector-size) return ;;
    --proof) COMPREPLY=($(compgen -W "contents places" -- "$current")); return ;;
    --sector-size) COMPREPLY=($(compgen -W "512 4096" -- "$current")); return ;;
    --seed) return ;;
    --technician) return ;;
    --timezone) return ;;
    --undo) COMPREPLY=($(compgen -W "full live" -- "$current")); return ;;
    --unowned) COMPREPLY=($(compgen -W "free keep" -- "$current")); return ;;
    -o) compopt -o default; return ;;
  esac
  if [[ $current == -* ]]; then
    COMPREPLY=($(compgen -W "$options" -- "$current"))
  elif [ "$COMP_CWORD" -gt 2 ] && [[ " assess rewrite " == *" $verb "* ]]; then
    compopt -o nospace
    COMPREPLY=($(compgen -W "table= p1= p2= p3= p4= volume= p1.cluster= p2.cluster= p3.cluster= p4.cluster= volume.cluster= names= p1.size= p2.size= p3.size= p4.size= volume.size= p1.front= p2.front= p3.front= p4.front= p1.label= p2.label= p3.label= p4.label= volume.label= g1= g2= g3= g4= p1.active= p2.active= p3.active= p4.active= p1.name= p2.name= p3.name= p4.name= p1.type= p2.type= p3.type= p4.type= boot= esp= p1.letter= p2.letter= p3.letter= p4.letter=" -- "$current"))
  else
    compopt -o default
  fi
}
complete -F _nuvrat nuvrat
