# The code in the boot record of a FAT32 volume from which a BIOS starts an installed Windows: finds the file BOOTMGR in
# the root folder, loads the whole of it to 2000h:0, and goes there with the drive's number in DL, as that
# program expects it from the boot record of any file system.
#
# 420 bytes at most, at offset 5Ah of the boot sector, after the parameter block (FAT specification 1.03), which it
# reads at 0:7C00h, where the MBR's code has loaded it. Sectors of 512 bytes. The number of the partition's first
# sector comes from the parameter block ("hidden sectors"). Everything is read by number of the sector
# (interrupt 13h, function 42h), one at a time.
# boot-code.sh, beside the crate's src, makes boot.bin from it.

        .code16
        .globl _start
        .set BPB, 0x7C00
        .set CLUSTER_SECTORS, BPB + 13
        .set RESERVED_SECTORS, BPB + 14
        .set FATS, BPB + 16
        .set HIDDEN_SECTORS, BPB + 28
        .set FAT_SECTORS, BPB + 36
        .set ROOT_CLUSTER, BPB + 44
        .set DRIVE, BPB + 64
        .set FAT_SEGMENT, 0x0800        # one sector of the FAT, at 0:8000h
        .set LOAD_SEGMENT, 0x2000
        .set END_SEGMENT, 0x9800        # after it the firmware may keep data of its own
        .set END_OF_CHAIN, 0x0FFFFFF8
        .set FAT_LBA, BPB - 4           # below the code, above the stack
        .set DATA_LBA, BPB - 8
        .set CACHED, BPB - 12           # the sector of the FAT that is in memory

_start: ljmp $0, $begin                 # some firmware's MBR comes in by 07C0h:0
begin:  xorw %ax, %ax
        movw %ax, %ds
        movw %ax, %ss
        movl $BPB - 16, %esp
        sti
        cld
        movb %dl, DRIVE
        movzwl RESERVED_SECTORS, %ebx
        addl HIDDEN_SECTORS, %ebx
        movl %ebx, FAT_LBA
        movzbl FATS, %eax
        mull FAT_SECTORS
        addl %ebx, %eax
        movl %eax, DATA_LBA
        movl $0, CACHED

        movl ROOT_CLUSTER, %eax         # the root folder, cluster after cluster
        movw $LOAD_SEGMENT, %bp
folder: movw %bp, %es
        call cluster
        movzbw CLUSTER_SECTORS, %cx
        shlw $4, %cx                    # entries of 32 bytes
        xorw %di, %di
entry:  cmpb $0, %es:(%di)
        je missing
        pushw %cx
        pushw %di
        movw $name, %si
        movw $11, %cx
        repe cmpsb
        popw %di
        popw %cx
        jne next
        testb $0x18, %es:11(%di)        # a folder or a label is not it
        jz found
next:   addw $32, %di
        loop entry
        call follow
        jb folder
missing:
        movw $no_file, %si
        jmp say

found:  pushw %es:20(%di)
        pushw %es:26(%di)
        popl %eax
        movw $LOAD_SEGMENT, %bp
load:   call cluster
        call follow
        jb load
        movb DRIVE, %dl
        ljmp $LOAD_SEGMENT, $0

# Reads cluster EAX to segment BP, which is then the segment after it.
cluster:
        pushal
        subl $2, %eax
        movzbl CLUSTER_SECTORS, %ecx
        mull %ecx
        addl DATA_LBA, %eax
1:      cmpw $END_SEGMENT, %bp
        jae unreadable                  # too long, or a chain without end
        call read
        addw $0x20, %bp
        incl %eax
        loop 1b
        movw %sp, %di
        movw %bp, 8(%di)                # BP as popal restores it
        popal
        ret

# EAX becomes the cluster that follows it; "below" as long as there is one.
follow: pushw %bp
        movl %eax, %edx
        shrl $7, %eax
        addl FAT_LBA, %eax
        cmpl CACHED, %eax
        je 1f
        movl %eax, CACHED
        movw $FAT_SEGMENT, %bp
        call read
1:      andw $0x7F, %dx
        shlw $2, %dx
        movw %dx, %di
        movl FAT_SEGMENT * 16(%di), %eax
        andl $0x0FFFFFFF, %eax
        popw %bp
        cmpl $END_OF_CHAIN, %eax
        ret

# Reads sector EAX to segment BP.
read:   pushal
        pushl $0                        # number of the sector, 64 bits
        pushl %eax
        pushw %bp                       # segment and offset
        pushw $0
        pushw $1                        # sectors
        pushw $16                       # length of this
        movw %sp, %si
        movb $0x42, %ah
        movb DRIVE, %dl
        int $0x13
        jc unreadable
        addw $16, %sp
        popal
        ret

unreadable:
        movw $no_read, %si
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
stop:   hlt
        jmp stop

name:   .ascii "BOOTMGR    "
no_file:
        .asciz "BOOTMGR is missing on this partition. Any key.\r\n"
no_read:
        .asciz "BOOTMGR cannot be loaded. Any key.\r\n"
