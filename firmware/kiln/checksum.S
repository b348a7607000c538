/* uint8_t checksum(const uint8_t *bytes, uint8_t length)
 * CRC-8, polynomial x^8 + x^5 + x^4 + 1, reflected, start value 0.
 * In: r25:r24 bytes, r22 length. Out: r24. Uses r18-r22, r26, r27. */
        .section .text.checksum, "ax", @progbits
        .global checksum
        .type   checksum, @function
checksum:
        movw    r26, r24        ; X walks over the bytes
        ldi     r24, 0          ; the sum
        ldi     r21, 0x8c
        tst     r22
        breq    done
next_byte:
        ld      r20, X+
        ldi     r19, 8
next_bit:
        mov     r18, r24
        eor     r18, r20        ; bit 0: does this bit feed back?
        lsr     r24
        sbrc    r18, 0
        eor     r24, r21
        lsr     r20
        dec     r19
        brne    next_bit
        dec     r22
        brne    next_byte
done:
        ret
        .size   checksum, . - checksum
