# The boot code of the protective MBR: tells someone who starts the disk in BIOS mode what has happened
# and what to change, then hands over to the firmware's next boot device.
#
# 440 bytes at most. The firmware loads sector 0 to 0:7C00h and jumps there in real mode; services by
# interrupt 10h (screen), 16h (keyboard), 1Ah (clock) and 18h (go on), as every PC BIOS has them.
# boot-code.sh, beside the crate's src, makes signpost.bin from it.

        .code16
        .globl _start
        .set SECONDS, 20
        .set TICKS_A_SECOND, 18         # 18.2 in truth

_start: ljmp $0, $begin                 # some firmware comes in by 07C0h:0
begin:  xorw %ax, %ax
        movw %ax, %ds
        movw %ax, %ss
        movw $0x7C00, %sp
        sti
        cld

        movw $0x0003, %ax               # text, 80 columns: whatever was on the screen goes
        int $0x10
        movw $text, %si
print:  lodsb
        testb %al, %al
        jz wait
        movb $0x0E, %ah
        movw $0x0007, %bx
        int $0x10
        jmp print

wait:   xorb %ah, %ah                   # the clock, in ticks
        int $0x1A
        movw %dx, %di
again:  movb $0x01, %ah                 # a key?
        int $0x16
        jnz key
        xorb %ah, %ah
        int $0x1A
        subw %di, %dx                   # right over the clock's end as well
        cmpw $SECONDS * TICKS_A_SECOND, %dx
        jb again
        jmp on
key:    xorb %ah, %ah                   # taken, so that nothing else finds it
        int $0x16
on:     int $0x18                       # the next boot device
stop:   hlt                             # for firmware that comes back
        jmp stop

text:   .ascii "This disk has been converted to GPT: it starts in UEFI mode only.\r\n\r\n"
        .ascii "In the PC's setup, change the boot mode to UEFI (not BIOS, not legacy).\r\n"
        .ascii "Nothing is wrong with the disk.\r\n\r\n"
        .asciz "Any key, or 20 seconds: the next boot device.\r\n"
