// SPDX-License-Identifier: MIT
// ATmega328P: the facts of the device, as data. Source: its data sheet, chapters "Register
// Summary", "Interrupts" and "Memory Programming". A test compares names, addresses, bits and
// vectors with the toolchain's device header.
#include "chip/device.h"

namespace lucid::chip {
namespace {

// Legend: address in data space, name, bytes, peripheral, fields as NAME:lowest bit[+width].
constexpr RegisterRow kRegisters[] = {
    {0x23, "PINB", 1, "PORTB", "PINB7:7 PINB6:6 PINB5:5 PINB4:4 PINB3:3 PINB2:2 PINB1:1 PINB0:0"},
    {0x24, "DDRB", 1, "PORTB", "DDB7:7 DDB6:6 DDB5:5 DDB4:4 DDB3:3 DDB2:2 DDB1:1 DDB0:0"},
    {0x25, "PORTB", 1, "PORTB",
     "PORTB7:7 PORTB6:6 PORTB5:5 PORTB4:4 PORTB3:3 PORTB2:2 PORTB1:1 PORTB0:0"},
    {0x26, "PINC", 1, "PORTC", "PINC6:6 PINC5:5 PINC4:4 PINC3:3 PINC2:2 PINC1:1 PINC0:0"},
    {0x27, "DDRC", 1, "PORTC", "DDC6:6 DDC5:5 DDC4:4 DDC3:3 DDC2:2 DDC1:1 DDC0:0"},
    {0x28, "PORTC", 1, "PORTC", "PORTC6:6 PORTC5:5 PORTC4:4 PORTC3:3 PORTC2:2 PORTC1:1 PORTC0:0"},
    {0x29, "PIND", 1, "PORTD", "PIND7:7 PIND6:6 PIND5:5 PIND4:4 PIND3:3 PIND2:2 PIND1:1 PIND0:0"},
    {0x2a, "DDRD", 1, "PORTD", "DDD7:7 DDD6:6 DDD5:5 DDD4:4 DDD3:3 DDD2:2 DDD1:1 DDD0:0"},
    {0x2b, "PORTD", 1, "PORTD",
     "PORTD7:7 PORTD6:6 PORTD5:5 PORTD4:4 PORTD3:3 PORTD2:2 PORTD1:1 PORTD0:0"},
    {0x35, "TIFR0", 1, "TIMER0", "OCF0B:2 OCF0A:1 TOV0:0"},
    {0x36, "TIFR1", 1, "TIMER1", "ICF1:5 OCF1B:2 OCF1A:1 TOV1:0"},
    {0x37, "TIFR2", 1, "TIMER2", "OCF2B:2 OCF2A:1 TOV2:0"},
    {0x3b, "PCIFR", 1, "EXTINT", "PCIF2:2 PCIF1:1 PCIF0:0"},
    {0x3c, "EIFR", 1, "EXTINT", "INTF1:1 INTF0:0"},
    {0x3d, "EIMSK", 1, "EXTINT", "INT1:1 INT0:0"},
    {0x3e, "GPIOR0", 1, "CPU", ""},
    {0x3f, "EECR", 1, "EEPROM", "EEPM:4+2 EEPM1:5 EEPM0:4 EERIE:3 EEMPE:2 EEPE:1 EERE:0"},
    {0x40, "EEDR", 1, "EEPROM", ""},
    {0x41, "EEARL", 1, "EEPROM", ""},
    {0x41, "EEAR", 2, "EEPROM", ""},
    {0x42, "EEARH", 1, "EEPROM", ""},
    {0x43, "GTCCR", 1, "TIMERS", "TSM:7 PSRASY:1 PSRSYNC:0"},
    {0x44, "TCCR0A", 1, "TIMER0",
     "WGM:0+2 COM0B:4+2 COM0A:6+2 COM0A1:7 COM0A0:6 COM0B1:5 COM0B0:4 WGM01:1 WGM00:0"},
    {0x45, "TCCR0B", 1, "TIMER0", "CS:0+3 FOC0A:7 FOC0B:6 WGM02:3 CS02:2 CS01:1 CS00:0"},
    {0x46, "TCNT0", 1, "TIMER0", ""},
    {0x47, "OCR0A", 1, "TIMER0", ""},
    {0x48, "OCR0B", 1, "TIMER0", ""},
    {0x4a, "GPIOR1", 1, "CPU", ""},
    {0x4b, "GPIOR2", 1, "CPU", ""},
    {0x4c, "SPCR", 1, "SPI", "SPR:0+2 SPIE:7 SPE:6 DORD:5 MSTR:4 CPOL:3 CPHA:2 SPR1:1 SPR0:0"},
    {0x4d, "SPSR", 1, "SPI", "SPIF:7 WCOL:6 SPI2X:0"},
    {0x4e, "SPDR", 1, "SPI", ""},
    {0x50, "ACSR", 1, "AC", "ACIS:0+2 ACD:7 ACBG:6 ACO:5 ACI:4 ACIE:3 ACIC:2 ACIS1:1 ACIS0:0"},
    {0x53, "SMCR", 1, "CPU", "SM:1+3 SM2:3 SM1:2 SM0:1 SE:0"},
    {0x54, "MCUSR", 1, "CPU", "WDRF:3 BORF:2 EXTRF:1 PORF:0"},
    {0x55, "MCUCR", 1, "CPU", "BODS:6 BODSE:5 PUD:4 IVSEL:1 IVCE:0"},
    {0x57, "SPMCSR", 1, "BOOT",
     "SPMIE:7 RWWSB:6 SIGRD:5 RWWSRE:4 BLBSET:3 PGWRT:2 PGERS:1 SPMEN:0"},
    {0x5d, "SPL", 1, "CPU", ""},
    {0x5d, "SP", 2, "CPU", ""},
    {0x5e, "SPH", 1, "CPU", ""},
    {0x5f, "SREG", 1, "CPU", "I:7 T:6 H:5 S:4 V:3 N:2 Z:1 C:0"},
    {0x60, "WDTCSR", 1, "WATCHDOG", "WDIF:7 WDIE:6 WDP3:5 WDCE:4 WDE:3 WDP2:2 WDP1:1 WDP0:0"},
    {0x61, "CLKPR", 1, "CPU", "CLKPS:0+4 CLKPCE:7 CLKPS3:3 CLKPS2:2 CLKPS1:1 CLKPS0:0"},
    {0x64, "PRR", 1, "CPU", "PRTWI:7 PRTIM2:6 PRTIM0:5 PRTIM1:3 PRSPI:2 PRUSART0:1 PRADC:0"},
    {0x66, "OSCCAL", 1, "CPU", ""},
    {0x68, "PCICR", 1, "EXTINT", "PCIE2:2 PCIE1:1 PCIE0:0"},
    {0x69, "EICRA", 1, "EXTINT", "ISC0:0+2 ISC1:2+2 ISC11:3 ISC10:2 ISC01:1 ISC00:0"},
    {0x6b, "PCMSK0", 1, "EXTINT",
     "PCINT7:7 PCINT6:6 PCINT5:5 PCINT4:4 PCINT3:3 PCINT2:2 PCINT1:1 PCINT0:0"},
    {0x6c, "PCMSK1", 1, "EXTINT",
     "PCINT14:6 PCINT13:5 PCINT12:4 PCINT11:3 PCINT10:2 PCINT9:1 PCINT8:0"},
    {0x6d, "PCMSK2", 1, "EXTINT",
     "PCINT23:7 PCINT22:6 PCINT21:5 PCINT20:4 PCINT19:3 PCINT18:2 PCINT17:1 PCINT16:0"},
    {0x6e, "TIMSK0", 1, "TIMER0", "OCIE0B:2 OCIE0A:1 TOIE0:0"},
    {0x6f, "TIMSK1", 1, "TIMER1", "ICIE1:5 OCIE1B:2 OCIE1A:1 TOIE1:0"},
    {0x70, "TIMSK2", 1, "TIMER2", "OCIE2B:2 OCIE2A:1 TOIE2:0"},
    {0x78, "ADCL", 1, "ADC", ""},
    {0x78, "ADC", 2, "ADC", ""},
    {0x79, "ADCH", 1, "ADC", ""},
    {0x7a, "ADCSRA", 1, "ADC",
     "ADPS:0+3 ADEN:7 ADSC:6 ADATE:5 ADIF:4 ADIE:3 ADPS2:2 ADPS1:1 ADPS0:0"},
    {0x7b, "ADCSRB", 1, "ADC", "ADTS:0+3 ACME:6 ADTS2:2 ADTS1:1 ADTS0:0"},
    {0x7c, "ADMUX", 1, "ADC",
     "MUX:0+4 REFS:6+2 REFS1:7 REFS0:6 ADLAR:5 MUX3:3 MUX2:2 MUX1:1 MUX0:0"},
    {0x7e, "DIDR0", 1, "ADC", "ADC5D:5 ADC4D:4 ADC3D:3 ADC2D:2 ADC1D:1 ADC0D:0"},
    {0x7f, "DIDR1", 1, "AC", "AIN1D:1 AIN0D:0"},
    {0x80, "TCCR1A", 1, "TIMER1",
     "WGM:0+2 COM1B:4+2 COM1A:6+2 COM1A1:7 COM1A0:6 COM1B1:5 COM1B0:4 WGM11:1 WGM10:0"},
    {0x81, "TCCR1B", 1, "TIMER1",
     "CS:0+3 WGM:3+2 ICNC1:7 ICES1:6 WGM13:4 WGM12:3 CS12:2 CS11:1 CS10:0"},
    {0x82, "TCCR1C", 1, "TIMER1", "FOC1A:7 FOC1B:6"},
    {0x84, "TCNT1L", 1, "TIMER1", ""},
    {0x84, "TCNT1", 2, "TIMER1", ""},
    {0x85, "TCNT1H", 1, "TIMER1", ""},
    {0x86, "ICR1L", 1, "TIMER1", ""},
    {0x86, "ICR1", 2, "TIMER1", ""},
    {0x87, "ICR1H", 1, "TIMER1", ""},
    {0x88, "OCR1AL", 1, "TIMER1", ""},
    {0x88, "OCR1A", 2, "TIMER1", ""},
    {0x89, "OCR1AH", 1, "TIMER1", ""},
    {0x8a, "OCR1BL", 1, "TIMER1", ""},
    {0x8a, "OCR1B", 2, "TIMER1", ""},
    {0x8b, "OCR1BH", 1, "TIMER1", ""},
    {0xb0, "TCCR2A", 1, "TIMER2",
     "WGM:0+2 COM2B:4+2 COM2A:6+2 COM2A1:7 COM2A0:6 COM2B1:5 COM2B0:4 WGM21:1 WGM20:0"},
    {0xb1, "TCCR2B", 1, "TIMER2", "CS:0+3 FOC2A:7 FOC2B:6 WGM22:3 CS22:2 CS21:1 CS20:0"},
    {0xb2, "TCNT2", 1, "TIMER2", ""},
    {0xb3, "OCR2A", 1, "TIMER2", ""},
    {0xb4, "OCR2B", 1, "TIMER2", ""},
    {0xb6, "ASSR", 1, "TIMERS", "EXCLK:6 AS2:5 TCN2UB:4 OCR2AUB:3 OCR2BUB:2 TCR2AUB:1 TCR2BUB:0"},
    {0xb8, "TWBR", 1, "TWI", ""},
    {0xb9, "TWSR", 1, "TWI", "TWPS:0+2 TWS:3+5 TWS7:7 TWS6:6 TWS5:5 TWS4:4 TWS3:3 TWPS1:1 TWPS0:0"},
    {0xba, "TWAR", 1, "TWI", "TWA:1+7 TWA6:7 TWA5:6 TWA4:5 TWA3:4 TWA2:3 TWA1:2 TWA0:1 TWGCE:0"},
    {0xbb, "TWDR", 1, "TWI", ""},
    {0xbc, "TWCR", 1, "TWI", "TWINT:7 TWEA:6 TWSTA:5 TWSTO:4 TWWC:3 TWEN:2 TWIE:0"},
    {0xbd, "TWAMR", 1, "TWI", "TWAM:0+7 TWAM6:6 TWAM5:5 TWAM4:4 TWAM3:3 TWAM2:2 TWAM1:1 TWAM0:0"},
    {0xc0, "UCSR0A", 1, "USART0", "RXC0:7 TXC0:6 UDRE0:5 FE0:4 DOR0:3 UPE0:2 U2X0:1 MPCM0:0"},
    {0xc1, "UCSR0B", 1, "USART0",
     "RXCIE0:7 TXCIE0:6 UDRIE0:5 RXEN0:4 TXEN0:3 UCSZ02:2 RXB80:1 TXB80:0"},
    {0xc2, "UCSR0C", 1, "USART0",
     "UCSZ:1+2 UPM:4+2 UMSEL:6+2 UMSEL01:7 UMSEL00:6 UPM01:5 UPM00:4 USBS0:3 UCSZ01:2 UDORD0:2 "
     "UCSZ00:1 UCPHA0:1 UCPOL0:0"},
    {0xc4, "UBRR0L", 1, "USART0", ""},
    {0xc4, "UBRR0", 2, "USART0", ""},
    {0xc5, "UBRR0H", 1, "USART0", ""},
    {0xc6, "UDR0", 1, "USART0", ""},
};

// Legend: number, name. Number 0 is reset.
constexpr VectorRow kVectors[] = {
    {0, "RESET"},         {1, "INT0"},        {2, "INT1"},          {3, "PCINT0"},
    {4, "PCINT1"},        {5, "PCINT2"},      {6, "WDT"},           {7, "TIMER2_COMPA"},
    {8, "TIMER2_COMPB"},  {9, "TIMER2_OVF"},  {10, "TIMER1_CAPT"},  {11, "TIMER1_COMPA"},
    {12, "TIMER1_COMPB"}, {13, "TIMER1_OVF"}, {14, "TIMER0_COMPA"}, {15, "TIMER0_COMPB"},
    {16, "TIMER0_OVF"},   {17, "SPI_STC"},    {18, "USART_RX"},     {19, "USART_UDRE"},
    {20, "USART_TX"},     {21, "ADC"},        {22, "EE_READY"},     {23, "ANALOG_COMP"},
    {24, "TWI"},          {25, "SPM_READY"},
};

// Legend: letter, address of PINx (DDRx and PORTx follow), which bits have a pin.
constexpr PortRow kPorts[] = {
    {'B', 0x23, 0xff},
    {'C', 0x26, 0x7f},
    {'D', 0x29, 0xff},
};

// Legend: number, TCCRnA, TIMSKn, TIFRn, first of the vectors CAPT COMPA COMPB OVF.
constexpr TimerRow kTimers[] = {
    {1, 0x80, 0x6f, 0x36, 10},
};

// Legend: number, UCSRnA, first of the vectors RX UDRE TX, port and bit of TXD and of RXD.
constexpr UsartRow kUsarts[] = {
    {0, 0xc0, 18, 'D', 1, 0},
};

// Registers that are nothing but memory on silicon, too.
constexpr std::uint16_t kPlain[] = {0x3e, 0x4a, 0x4b, 0x54};

}  // namespace

const DeviceRow& atmega328p() {
  static constexpr DeviceRow kDevice{
      "ATmega328P",
      "avr5",
      0x8000,  // flash bytes
      0x100,
      0x900,  // RAM [begin, end)
      1024,   // EEPROM bytes
      128,    // flash page bytes
      {0x62, 0xd9, 0xff},
      {0x1e, 0x95, 0x0f},
      2,  // vector size in words
      // Boot section, in words, by BOOTSZ ("Boot Loader Support", boot size configuration).
      {2048, 1024, 512, 256},
      kRegisters,
      kVectors,
      kPorts,
      kTimers,
      kUsarts,
      kPlain,
      22,    // EE_READY vector
      0x3f,  // EECR
      "ports, Timer1, USART0, EEPROM"};
  return kDevice;
}

}  // namespace lucid::chip
