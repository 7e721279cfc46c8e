; The first sector of the demo's NTFS boot area, behind the parameters, and where what follows
; begins: sectors 1 to 15 are loaded to 0000:7E00. What they load is BOOTMGR.
        bits    16
        section .entry
        extern  start
        global  parameters
parameters:                             ; 54h bytes of them are the volume's own
        times 54h db 0
        cli
        xor     ax, ax
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     esp, 7C00h
        sti
        cld
        mov     eax, [7C1Ch]            ; sectors in front of the partition
        mov     ebx, eax
        inc     eax
        push    dword 0
        push    eax
        push    word 0
        push    word 7E00h
        push    word 15
        push    word 10h
        mov     si, sp
        mov     ah, 42h
        int     13h
        jc      halt
        mov     esp, 7C00h
        movzx   edx, dl
        push    ebx
        push    edx
        call    dword start
halt:   hlt
        jmp     halt
        times 510 - ($ - parameters) db 0
        dw      0AA55h
        db      7, 0, "B", 0, "O", 0, "O", 0, "T", 0, "M", 0, "G", 0, "R", 0
