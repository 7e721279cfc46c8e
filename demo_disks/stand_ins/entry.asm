; Where the stand-in for \bootmgr begins: at 2000:0000, with the drive in DL and the partition's
; first sector in EBX.
        bits    16
        section .entry
        extern  start
        cli
        mov     ax, cs
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     esp, 0FFF0h
        sti
        cld
        movzx   edx, dl
        push    ebx
        push    edx
        call    dword start
halt:   hlt
        jmp     halt
