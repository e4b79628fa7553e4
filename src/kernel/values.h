/* Single values out of text, in their plain forms only: what is written in another way is left to
   the Python side, which knows all of them. Each gives 0 for such a one. */
#ifndef SPLARN_VALUES_H
#define SPLARN_VALUES_H

#include "kernel.h"

static const int64_t POWERS[19] = {
    1LL, 10LL, 100LL, 1000LL, 10000LL, 100000LL, 1000000LL, 10000000LL, 100000000LL, 1000000000LL,
    10000000000LL, 100000000000LL, 1000000000000LL, 10000000000000LL, 100000000000000LL,
    1000000000000000LL, 10000000000000000LL, 100000000000000000LL, 1000000000000000000LL};

static inline int is_digit(uint8_t byte) { return (uint8_t)(byte - '0') < 10; }

/* Digits with an optional sign and point: the number without its point, and the digits behind it.
   No zeros in front, at most 18 digits or 19 without a point, and some on both sides of one. */
static inline int number(const uint8_t *at, const uint8_t *end, uint64_t *whole, int *negative,
                         int *front, int *behind) {
    *negative = at < end && *at == '-';
    at += *negative;
    const uint8_t *first = at;
    uint64_t value = 0;
    while (at < end && is_digit(*at)) value = value * 10 + (uint64_t)(*at++ - '0');
    ptrdiff_t before = at - first, after = 0;
    if (before == 0 || before > 19 || (before > 1 && *first == '0')) return 0;
    if (at < end) {
        if (*at++ != '.') return 0;
        const uint8_t *point = at;
        if (end - at > 18) return 0;
        while (at < end && is_digit(*at)) value = value * 10 + (uint64_t)(*at++ - '0');
        after = at - point;
        if (at != end || after == 0 || before + after > 18) return 0;
    }
    *whole = value;
    *front = *first == '0' ? 0 : (int)before;
    *behind = (int)after;
    return 1;
}

static inline int integer(const uint8_t *at, const uint8_t *end, int bits, int64_t *value) {
    uint64_t whole;
    int negative, front, behind;
    if (!number(at, end, &whole, &negative, &front, &behind) || behind || whole > INT64_MAX ||
        (negative && !whole))
        return 0;
    *value = negative ? -(int64_t)whole : (int64_t)whole;
    int64_t most = bits == 64 ? INT64_MAX : (1LL << (bits - 1)) - 1;
    return *value <= most && *value >= -most - 1;
}

static inline int decimal(const uint8_t *at, const uint8_t *end, int precision, int scale,
                          int64_t *value) {
    uint64_t whole;
    int negative, front, behind;
    if (!number(at, end, &whole, &negative, &front, &behind) || behind > scale ||
        front > precision - scale || front + scale > 18)
        return 0;
    *value = (int64_t)whole * POWERS[scale - behind];
    if (negative) *value = -*value;
    return 1;
}

/* Up to 15 digits, and a power of ten that a double holds: one division, which IEEE 754 rounds to
   the nearest, gives the nearest (Clinger 1990, "How to Read Floating Point Numbers Accurately"). */
static inline int floating(const uint8_t *at, const uint8_t *end, double *value) {
    uint64_t whole;
    int negative, front, behind;
    if (!number(at, end, &whole, &negative, &front, &behind) || whole >= (uint64_t)POWERS[15])
        return 0;
    *value = (double)whole / (double)POWERS[behind];
    if (negative) *value = -*value;
    return 1;
}

static inline int two(const uint8_t *at) {
    return is_digit(at[0]) && is_digit(at[1]) ? (at[0] - '0') * 10 + at[1] - '0' : -1;
}

/* YYYY-MM-DD. */
static inline int date(const uint8_t *at, int32_t *days) {
    static const int8_t lengths[13] = {0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    int century = two(at), rest = two(at + 2), month = two(at + 5), day = two(at + 8);
    if (century < 0 || rest < 0 || at[4] != '-' || at[7] != '-') return 0;
    int year = century * 100 + rest;
    if (year < 1 || month < 1 || month > 12 || day < 1) return 0;
    int leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    if (day > lengths[month] + (month == 2 && leap)) return 0;
    *days = days_of(year, month, day);
    return 1;
}

/* HH:MM:SS, with up to six digits of a fraction, in microseconds. */
static inline int time_of_day(const uint8_t *at, const uint8_t *end, int64_t *value) {
    if (end - at < 8 || at[2] != ':' || at[5] != ':') return 0;
    int hours = two(at), minutes = two(at + 3), seconds = two(at + 6);
    if (hours < 0 || hours > 23 || minutes < 0 || minutes > 59 || seconds < 0 || seconds > 59)
        return 0;
    *value = ((hours * 60 + minutes) * 60 + seconds) * MICROSECONDS;
    at += 8;
    if (at == end) return 1;
    if (*at++ != '.' || end - at < 1 || end - at > 6) return 0;
    int64_t unit = MICROSECONDS;
    for (; at < end; at++) {
        if (!is_digit(*at)) return 0;
        unit /= 10;
        *value += (*at - '0') * unit;
    }
    return 1;
}

/* A date and a time of day, with a blank or a T between. */
static inline int stamp(const uint8_t *at, const uint8_t *end, int64_t *value) {
    int32_t days;
    int64_t within;
    if (end - at < 19 || (at[10] != ' ' && at[10] != 'T') || !date(at, &days)) return 0;
    if (!time_of_day(at + 11, end, &within)) return 0;
    *value = days * DAY + within;
    return 1;
}

/* The words that stand for true and false everywhere. */
static inline int boolean(const uint8_t *at, size_t length, int *value) {
    static const char *words[6] = {"true", "True", "TRUE", "false", "False", "FALSE"};
    if (length == 1 && (*at == '0' || *at == '1')) {
        *value = *at == '1';
        return 1;
    }
    for (int word = 0; word < 6; word++)
        if (length == strlen(words[word]) && memcmp(at, words[word], length) == 0) {
            *value = word < 3;
            return 1;
        }
    return 0;
}

/* Whether bytes are UTF-8 as RFC 3629 has it. */
static inline int is_utf8(const uint8_t *at, const uint8_t *end) {
    while (at < end) {
        uint8_t lead = *at++;
        if (lead < 0x80) continue;
        int more = lead >= 0xF0 ? 3 : lead >= 0xE0 ? 2 : 1;
        if (lead < 0xC2 || lead > 0xF4 || end - at < more) return 0;
        uint8_t low = lead == 0xE0 ? 0xA0 : lead == 0xF0 ? 0x90 : 0x80;
        uint8_t high = lead == 0xED ? 0x9F : lead == 0xF4 ? 0x8F : 0xBF;
        if (*at < low || *at > high) return 0;
        at++;
        for (int rest = 1; rest < more; rest++, at++)
            if ((*at & 0xC0) != 0x80) return 0;
    }
    return 1;
}

#endif
