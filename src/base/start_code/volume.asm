; What a machine runs that starts a volume on which there is no system. At any address: it lies
; behind the parameters of a boot sector, which are of another length for each kind of volume.
        bits    16
        call    here                    ; the return address says where this is
here:   pop     si
        push    cs
        pop     ds
        add     si, message - here
        cld
next:   lodsb
        test    al, al
        jz      key
        mov     ah, 0Eh                 ; a character on the screen
        mov     bx, 7
        int     10h
        jmp     next
key:    xor     ah, ah                  ; a key
        int     16h
        int     18h                     ; firmware goes on to its next device
        jmp     key

message:
        db      13, 10, "This volume holds files and no system: nothing starts from it.", 13, 10
        db      "Press a key to go on to the next device.", 13, 10, 0
