; LBA 0 of an MBR disk: starts the active partition. Loaded at 0000:7C00 with the drive in DL; the
; partition's first sector is loaded there with DL as it was and DS:SI at its entry.
        bits    16
        org     0600h                   ; it moves itself out of the way

        cli
        xor     ax, ax
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     sp, 7C00h
        sti
        cld
        mov     si, 7C00h
        mov     di, 0600h
        mov     cx, 256
        rep     movsw
        jmp     0:moved

moved:  mov     si, 07BEh               ; the four entries
        mov     cx, 4
find:   test    byte [si], 80h
        jnz     found
        add     si, 16
        loop    find
        mov     si, none
        jmp     say

found:  push    dword 0                 ; what to read: one sector, to 0000:7C00
        push    dword [si + 8]          ; from the entry's first
        push    word 0
        push    word 7C00h
        push    word 1
        push    word 10h
        mov     di, si
        mov     si, sp
        mov     ah, 42h
        int     13h
        mov     si, unread
        jc      say
        cmp     word [7DFEh], 0AA55h
        mov     si, empty
        jne     say
        mov     sp, 7C00h
        mov     si, di
        jmp     0:7C00h

say:    lodsb
        test    al, al
        jz      key
        mov     ah, 0Eh                 ; a character on the screen
        mov     bx, 7
        int     10h
        jmp     say
key:    xor     ah, ah                  ; a key
        int     16h
        int     18h                     ; firmware goes on to its next device
        jmp     key

none:   db      13, 10, "No partition of this disk is active: there is nothing to start.", 13, 10, 0
unread: db      13, 10, "The active partition of this disk can't be read.", 13, 10, 0
empty:  db      13, 10, "The active partition of this disk has no boot sector.", 13, 10, 0
