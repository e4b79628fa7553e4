/* Values as text, as every server writes them. Each gives where the next byte goes. */
#ifndef SPLARN_TEXT_H
#define SPLARN_TEXT_H

#include "columns.h"

/* Room that a value takes at most, texts aside. */
enum { MOST_OF_VALUE = 64 };

static inline uint8_t *put_two(uint8_t *at, int value) {
    *at++ = (uint8_t)('0' + value / 10);
    *at++ = (uint8_t)('0' + value % 10);
    return at;
}

static inline uint8_t *put_digits(uint8_t *at, unsigned __int128 value, int fewest) {
    uint8_t digits[40];
    int count = 0;
    uint64_t small;
    while (value >> 64) {
        digits[count++] = (uint8_t)('0' + (int)(value % 10));
        value /= 10;
    }
    for (small = (uint64_t)value; small; small /= 10)
        digits[count++] = (uint8_t)('0' + (int)(small % 10));
    while (count < fewest) digits[count++] = '0';
    while (count) *at++ = digits[--count];
    return at;
}

static inline uint8_t *put_decimal(uint8_t *at, Wide value, int scale) {
    unsigned __int128 size = value < 0 ? -(unsigned __int128)value : (unsigned __int128)value;
    if (value < 0) *at++ = '-';
    uint8_t *first = at;
    at = put_digits(at, size, scale + 1);
    if (!scale) return at;
    memmove(at - scale + 1, at - scale, (size_t)scale);
    first[at - first - scale] = '.';
    return at + 1;
}

/* A date (Hinnant, as above); NULL outside of the years 1 to 9999. */
static inline uint8_t *put_date(uint8_t *at, int64_t days) {
    if (days < FIRST_DAY || days >= BEHIND) return NULL;
    int64_t moved = days + 719468, era = moved / 146097, of_era = moved % 146097;
    int64_t year = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    int64_t of_year = of_era - (365 * year + year / 4 - year / 100), month = (5 * of_year + 2) / 153;
    int day = (int)(of_year - (153 * month + 2) / 5 + 1);
    month += month < 10 ? 3 : -9;
    year += era * 400 + (month <= 2);
    at = put_two(put_two(at, (int)(year / 100)), (int)(year % 100));
    *at++ = '-';
    at = put_two(at, (int)month);
    *at++ = '-';
    return put_two(at, day);
}

static inline uint8_t *put_clock(uint8_t *at, int64_t within) {
    int64_t seconds = within / MICROSECONDS, fraction = within % MICROSECONDS;
    at = put_two(at, (int)(seconds / 3600));
    *at++ = ':';
    at = put_two(at, (int)(seconds / 60 % 60));
    *at++ = ':';
    at = put_two(at, (int)(seconds % 60));
    if (!fraction) return at;
    *at++ = '.';
    return put_digits(at, (unsigned __int128)fraction, 6);
}

/* A moment as a date and a time of day; NULL outside of the years 1 to 9999. */
static inline uint8_t *put_stamp(uint8_t *at, int64_t value) {
    int64_t days = value / DAY - (value % DAY < 0);
    at = put_date(at, days);
    if (at == NULL) return NULL;
    *at++ = ' ';
    return put_clock(at, value - days * DAY);
}

#endif
