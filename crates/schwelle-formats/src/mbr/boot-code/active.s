# The boot code of an MBR that a BIOS starts from: finds the active partition among the four entries, loads
# its boot record, and goes there.
#
# 440 bytes at most. The firmware loads sector 0 to 0:7C00h and jumps there in real mode, with its number for
# the drive in DL. The code moves itself to 0:0600h, since the partition's boot record must lie at 0:7C00h as
# well, and gives it DL, and in SI its own entry. Sectors are read by number (interrupt 13h, function 42h), as
# every BIOS of the last twenty-five years can; cylinders and heads are not used.
# boot-code.sh, beside the crate's src, makes active.bin from it.

        .code16
        .globl _start
        .set LOADED, 0x7C00
        .set ENTRIES, _start + 446
        .set ACTIVE, 0x80

_start: cli
        xorw %ax, %ax
        movw %ax, %ds
        movw %ax, %es
        movw %ax, %ss
        movw $LOADED, %sp
        sti
        cld
        movw $LOADED, %si
        movw $_start, %di
        movw $256, %cx
        rep movsw
        ljmp $0, $moved

moved:  movw $ENTRIES, %si
        movw $4, %cx
find:   cmpb $ACTIVE, (%si)
        je found
        addw $16, %si
        loop find
        movw $no_active, %si
        jmp say

found:  pushw %si
        pushl $0                        # what to read, and where to: number of the sector, 64 bits
        pushl 8(%si)
        pushw $0                        # segment and offset
        pushw $LOADED
        pushw $1                        # sectors
        pushw $16                       # length of this
        movw %sp, %si
        movb $0x42, %ah
        int $0x13
        jc unreadable
        addw $16, %sp
        popw %si
        cmpw $0xAA55, LOADED + 510
        jne unmarked
        ljmp $0, $LOADED

unreadable:
        movw $no_read, %si
        jmp say
unmarked:
        movw $no_mark, %si
say:    lodsb
        testb %al, %al
        jz wait
        movb $0x0E, %ah
        movw $0x0007, %bx
        int $0x10
        jmp say
wait:   xorb %ah, %ah                   # a key
        int $0x16
        int $0x18                       # the next boot device
stop:   hlt                             # for firmware that comes back
        jmp stop

no_active:
        .asciz "No partition of this disk is active. Any key: the next boot device.\r\n"
no_read:
        .asciz "The active partition cannot be read. Any key: the next boot device.\r\n"
no_mark:
        .asciz "The active partition has no boot record. Any key: the next boot device.\r\n"
