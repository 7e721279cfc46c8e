#compdef nuvrat
# Made by scripts/words from the tool's own help.
_nuvrat() {
  local -a verbs goals
  verbs=(
    'survey:Show what is on a disk, and anything unusual about it'
    'check:Whether table and volumes are sound'
    'files:The files of a volume, read-only'
    'fetch:Copy files and folders out, read-only'
    'manifest:Record every file with its hash'
    'assess:Whether goals can be reached, how, and what is lost'
    'rewrite:Do it: record, rehearse, rewrite, compare'
    'verify:Compare a disk with a manifest'
    'resume:Finish a rewrite that was cut off: its case, or the disk if the case is lost'
    'revert:Put the disk back as it was before a case'
    'report:The page that goes to the owner with the disk, from a case'
  )
  goals=(table= p1= p2= p3= p4= volume= p1.cluster= p2.cluster= p3.cluster= p4.cluster= volume.cluster= names= p1.size= p2.size= p3.size= p4.size= volume.size= p1.front= p2.front= p3.front= p4.front= p1.label= p2.label= p3.label= p4.label= volume.label= g1= g2= g3= g4= p1.active= p2.active= p3.active= p4.active= p1.name= p2.name= p3.name= p4.name= p1.type= p2.type= p3.type= p4.type= boot= esp= p1.letter= p2.letter= p3.letter= p4.letter=)
  if (( CURRENT == 2 )); then
    _describe verb verbs
    return
  fi
  local verb=$words[2]
  shift words
  (( CURRENT-- ))
  case $verb in
    survey)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    check)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '--repair[Mend what can be mended with nothing lost, as a job]' \
        '--unowned=[With --repair\: clusters that no file has are freed, or kept as files in a folder UNOWNED; left alone unless told]:how:(free keep)' \
        '--awake[A '\''hiberfil.sys'\'' of unknown form\: the system was shut down for good]' \
        '--case=[The folder for this job'\''s records (a new one here)]:folder:_files -/' \
        '--confirm=[The disk'\''s tag\: go ahead without asking]:tag:' \
        '--details[The plan with its steps, writes and every consent in full]' \
        '--undo=[The undo journal keeps all sectors (full) or live ones only (full)]:what:(full live)' \
        '--proof=[Verification\: '\''contents'\'' hashes every file before and after; '\''places'\'' hashes only what moves (contents)]:how:(contents places)' \
        '--case-in-memory[Allow the case in memory; a power failure then loses the undo data]' \
        '--accept-unreadable[Go on although parts of files can'\''t be read]' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--fault=[For practice on an image\: make it fail, as in cut=12,keep=some,seed=3]:plan:' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    files)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    fetch)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '-o[The folder to copy into]:folder:_files -/' \
        '--output=[The folder to copy into]:folder:_files -/' \
        '--against=[A manifest\: verify each file by its hash there]:file:_files' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    manifest)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '-o[The file to write]:file:_files' \
        '--output=[The file to write]:file:_files' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--format=[nuvrat, or sha256sum for the ordinary checksum program]:kind:(nuvrat sha256sum)' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    assess)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '--details[The plan with its steps, writes and every consent in full]' \
        '--seed=[New identities from this number, so that a demo repeats]:number:' \
        '--awake[A '\''hiberfil.sys'\'' of unknown form\: the system was shut down for good]' \
        '1:disk:_files' \
        '*:goal:_values -S "" goal $goals'
      ;;
    rewrite)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '--case=[The folder for this job'\''s records (a new one here)]:folder:_files -/' \
        '--confirm=[The disk'\''s tag\: go ahead without asking]:tag:' \
        '--details[The plan with its steps, writes and every consent in full]' \
        '--undo=[The undo journal keeps all sectors (full) or live ones only (full)]:what:(full live)' \
        '--proof=[Verification\: '\''contents'\'' hashes every file before and after; '\''places'\'' hashes only what moves (contents)]:how:(contents places)' \
        '--case-in-memory[Allow the case in memory; a power failure then loses the undo data]' \
        '--accept-unreadable[Go on although parts of files can'\''t be read]' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--fault=[For practice on an image\: make it fail, as in cut=12,keep=some,seed=3]:plan:' \
        '--rehearse[Stop before the first write\: record, play it through, compare, keep the case]' \
        '--seed=[New identities from this number, so that a demo repeats]:number:' \
        '--awake[A '\''hiberfil.sys'\'' of unknown form\: the system was shut down for good]' \
        '1:disk:_files' \
        '*:goal:_values -S "" goal $goals'
      ;;
    verify)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--sector-size=[Of an image\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '--physical-sector-size=[Physical sector, if the device reports too small a value; of an image 4096 unless told]:bytes:' \
        '--timezone=[Zone of FAT'\''s local times (the machine'\''s)]:zone:' \
        '--codepage=[OEM code page of FAT'\''s short names (437)]:number:' \
        '--against=[The manifest]:file:_files' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '1:disk:_files' \
        '*:word:_files'
      ;;
    resume)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--disk=[Where the disk is now, if it moved]:disk:_files' \
        '--confirm=[The disk'\''s present tag\: go ahead without asking]:tag:' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--fault=[For practice on an image\: make it fail, as in cut=12,keep=some,seed=3]:plan:' \
        '--sector-size=[Of an image whose case is lost\: 512 or 4096 (512)]:bytes:(512 4096)' \
        '1:case:_files' \
        '*:word:_files'
      ;;
    revert)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--disk=[Where the disk is now, if it moved]:disk:_files' \
        '--confirm=[The disk'\''s present tag\: go ahead without asking]:tag:' \
        '--events=[A JSON line for each stage and each step of progress into this file]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--fault=[For practice on an image\: make it fail, as in cut=12,keep=some,seed=3]:plan:' \
        '--discard-later-changes[Go back although the disk has been written to since]' \
        '1:case:_files -/' \
        '*:word:_files'
      ;;
    report)
      _arguments -S \
        '-h[Print this help message and exit]' \
        '--help[Print this help message and exit]' \
        '--json[One JSON object instead of text]' \
        '--disk=[Where the disk is now, if it moved]:disk:_files' \
        '-o[The HTML file to write]:file:_files' \
        '--output=[The HTML file to write]:file:_files' \
        '--overwrite[Replace output files that exist]' \
        '--technician=[The technician, and how to be reached; else from nuvrat/letterhead in the folder for settings]:text:' \
        '--owner=[Whose disk it is]:text:' \
        '--job=[The shop'\''s number of the job]:text:' \
        '1:case:_files -/' \
        '*:word:_files'
      ;;
  esac
}
_nuvrat "$@"
