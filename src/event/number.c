/* number.c - numbers printed by the shortest text that reads back the same.
 *
 * Without libm and locale, and the same on every CPU. Most numbers of a game
 * are short decimals: those are found by trying 0 to 6 decimals in exact
 * double arithmetic. The rest goes through exact big integers.
 *
 * number-1  what is printed reads back (strtod, then cast to float if it is
 *           one) as the same value
 * number-2  no shorter run of digits does
 */
#include "number.h"

#include "platform.h"
#include "text.h"

#include "ikvar/catalogue.h"

/* --------------------------------------------------- exact big integers -- */

enum {
    BIG_WORDS = 40 /* 1,280 bits: 2^1074 * 10 and some to spare */
};

typedef struct big {
    uint32_t word[BIG_WORDS];
    int used;
} big;

static void big_set(big *b, uint64_t value)
{
    memset(b, 0, sizeof *b);
    b->word[0] = (uint32_t)value;
    b->word[1] = (uint32_t)(value >> 32);
    b->used = b->word[1] != 0 ? 2 : b->word[0] != 0;
}

static void big_scale(big *b, uint32_t factor)
{
    uint64_t carry = 0;
    for (int i = 0; i < b->used; i++) {
        carry += (uint64_t)b->word[i] * factor;
        b->word[i] = (uint32_t)carry;
        carry >>= 32;
    }
    IKVI_CHECK(b->used < BIG_WORDS || carry == 0);
    if (carry != 0)
        b->word[b->used++] = (uint32_t)carry;
}

static void big_shift(big *b, int bits)
{
    /* A factor of 32 bits moves by 31 at most. */
    for (; bits >= 31; bits -= 31)
        big_scale(b, 0x80000000u);
    big_scale(b, 1u << bits);
}

static void big_power_of_ten(big *b, int exponent)
{
    for (; exponent >= 9; exponent -= 9)
        big_scale(b, 1000000000u);
    for (; exponent > 0; exponent--)
        big_scale(b, 10);
}

static int big_compare(const big *a, const big *b)
{
    if (a->used != b->used)
        return a->used < b->used ? -1 : 1;
    for (int i = a->used - 1; i >= 0; i--)
        if (a->word[i] != b->word[i])
            return a->word[i] < b->word[i] ? -1 : 1;
    return 0;
}

/* a + b against c. */
static int big_compare_sum(const big *a, const big *b, const big *c)
{
    /* Copied with its zeros: words behind `used` are never other than 0. */
    big sum = *a;
    int count = a->used > b->used ? a->used : b->used;
    uint64_t carry = 0;
    for (int i = 0; i < count; i++) {
        carry += (uint64_t)a->word[i] + b->word[i];
        sum.word[i] = (uint32_t)carry;
        carry >>= 32;
    }
    sum.used = count;
    if (carry != 0)
        sum.word[sum.used++] = (uint32_t)carry;
    return big_compare(&sum, c);
}

static void big_subtract(big *a, const big *b)
{
    int64_t borrow = 0;
    for (int i = 0; i < a->used; i++) {
        borrow += (int64_t)a->word[i] - b->word[i];
        a->word[i] = (uint32_t)borrow;
        borrow >>= 32;
    }
    IKVI_CHECK(borrow == 0); /* b was not greater */
    while (a->used > 0 && a->word[a->used - 1] == 0)
        a->used--;
}

/* ------------------------------------------------------ shortest digits -- */

typedef struct decimal {
    char digits[20];
    int count;
    int point; /* value = 0.digits * 10^point */
} decimal;

/* A finite positive number as mantissa * 2^exponent. */
typedef struct binary {
    uint64_t mantissa;
    int exponent;
    bool boundary; /* the gap below is half the gap above */
} binary;

/* `boundary`: at a power of two the number below is half as far as the one
 * above. */
static binary take_apart(double value, bool is_float)
{
    binary b = {0};
    if (is_float) {
        float f = (float)value;
        uint32_t bits = 0;
        memcpy(&bits, &f, sizeof bits);
        uint32_t field = bits >> 23 & 0xff, fraction = bits & 0x7fffff;
        b.mantissa = field != 0 ? fraction | 0x800000 : fraction;
        /* Subnormal numbers have the exponent of the smallest normal ones. */
        b.exponent = (field != 0 ? (int)field : 1) - 150;
        b.boundary = fraction == 0 && field > 1;
        return b;
    }
    uint64_t bits = 0;
    memcpy(&bits, &value, sizeof bits);
    uint64_t field = bits >> 52 & 0x7ff, fraction = bits << 12 >> 12;
    b.mantissa = field != 0 ? fraction | 1ull << 52 : fraction;
    b.exponent = (field != 0 ? (int)field : 1) - 1075;
    b.boundary = fraction == 0 && field > 1;
    return b;
}

/* About log10 of the number, at most one too small. */
static int guess_point(binary b)
{
    int bits = 0;
    while (b.mantissa >> bits > 1)
        bits++;
    int log2 = b.exponent + bits;
    /* 1233 / 4096 is a little above log10(2); rounded down, also below 0. */
    return (log2 * 1233 - (log2 < 0 ? 4095 : 0)) / 4096;
}

/* Steele and White's free-format printing (1990) in exact integers: digits
 * are made until what is left is below the gap to the neighbouring numbers. */
static decimal shortest(binary b)
{
    big rest, scale, low, high;
    int twice = b.boundary ? 2 : 1;
    big_set(&rest, b.mantissa);
    big_set(&scale, 1);
    big_set(&low, 1);
    if (b.exponent >= 0) {
        big_shift(&rest, b.exponent);
        big_shift(&low, b.exponent);
    } else {
        big_shift(&scale, -b.exponent);
    }
    /* Doubled, so that half a gap is a whole number. */
    big_shift(&rest, twice);
    big_shift(&scale, twice);
    high = low;
    big_shift(&high, twice - 1);

    decimal d = {{0}, 0, guess_point(b)};
    if (d.point > 0)
        big_power_of_ten(&scale, d.point);
    big *down[] = {&rest, &low, &high};
    for (int i = 0; i < 3 && d.point < 0; i++)
        big_power_of_ten(down[i], -d.point);

    /* Readers round a tie to the even one: then the gap's ends belong to it. */
    bool even = b.mantissa % 2 == 0;
    while (big_compare_sum(&rest, &high, &scale) >= (even ? 0 : 1)) {
        big_scale(&scale, 10);
        d.point++;
    }
    for (;;) {
        for (int i = 0; i < 3; i++)
            big_scale(down[i], 10);
        IKVI_CHECK(d.count < (int)sizeof d.digits);
        int digit = 0;
        for (; big_compare(&rest, &scale) >= 0; digit++)
            big_subtract(&rest, &scale);
        IKVI_CHECK(digit < 10);
        int below = big_compare(&rest, &low);
        int above = big_compare_sum(&rest, &high, &scale);
        bool stop_low = below < 0 || (even && below == 0);
        bool stop_high = above > 0 || (even && above == 0);
        if (!stop_low && !stop_high) {
            d.digits[d.count++] = (char)('0' + digit);
            continue;
        }
        /* Both would do: the nearer digit. */
        bool up = stop_high &&
                  (!stop_low || big_compare_sum(&rest, &rest, &scale) >= 0);
        d.digits[d.count++] = (char)('0' + digit + (up ? 1 : 0));
        return d;
    }
}

static decimal from_integer(uint64_t value, int decimals)
{
    decimal d = {{0}, 0, 0};
    ikvi_text text = {d.digits, sizeof d.digits, 0};
    ikvi_text_unsigned(&text, value);
    d.count = (int)text.length;
    d.point = d.count - decimals;
    return d;
}

/* The usual case: at most 6 decimals and 15 digits, where the division of two
 * exact doubles is what reading the text would give. */
static bool short_decimal(double value, bool is_float, decimal *d)
{
    double power = 1;
    for (int decimals = 0; decimals <= 6; decimals++) {
        /* Below 2^53 whole numbers are exact, and the division rounds once, as
         * reading does. */
        double scaled = value * power + 0.5;
        if (scaled >= 1e15 || (is_float && scaled >= 1e7))
            return false;
        uint64_t whole = (uint64_t)scaled;
        double back = (double)whole / power;
        if (is_float ? (float)back == (float)value : back == value) {
            *d = from_integer(whole, decimals);
            return true;
        }
        power *= 10;
    }
    return false;
}

/* Up to 16 digits before the point and 5 zeros behind it are written out, as
 * people would; beyond that with an exponent. */
static void print_decimal(ikvi_text *text, decimal d)
{
    while (d.count > 1 && d.digits[d.count - 1] == '0')
        d.count--;
    if (d.point > 16 || d.point < -5) {
        ikvi_text_bytes(text, d.digits, 1);
        if (d.count > 1) {
            ikvi_text_add(text, ".");
            ikvi_text_bytes(text, d.digits + 1, (size_t)d.count - 1);
        }
        ikvi_text_add(text, "e");
        ikvi_text_signed(text, d.point - 1);
        return;
    }
    if (d.point <= 0)
        ikvi_text_add(text, "0.");
    for (int i = d.point; i < 0; i++)
        ikvi_text_add(text, "0");
    for (int i = 0; i < d.count; i++) {
        if (i == d.point && i > 0)
            ikvi_text_add(text, ".");
        ikvi_text_bytes(text, d.digits + i, 1);
    }
    for (int i = d.count; i < d.point; i++)
        ikvi_text_add(text, "0");
}

/* T3. */
size_t ikv_number_format(double value, bool is_float, char *buffer)
{
    ikvi_text text = {buffer, buffer != NULL ? 32 : 0, 0};
    double size = value < 0 ? -value : value;
    if (value != value) {
        ikvi_text_add(&text, "nan");
    } else if (size >
               (is_float ? 3.4028234663852886e38 : 1.7976931348623157e308)) {
        ikvi_text_add(&text, value < 0 ? "-inf" : "inf");
    } else {
        decimal d = {"0", 1, 1};
        if (value < 0)
            ikvi_text_add(&text, "-");
        /* Zero has a digit, and loses its sign only if it is below nothing. */
        if (size > 0 && !short_decimal(size, is_float, &d))
            d = shortest(take_apart(size, is_float));
        print_decimal(&text, d);
    }
    return ikvi_text_end(&text);
}

/* In integers: a double has no room for an hour in ns. */
size_t ikv_time_format(uint64_t time_ns, char *buffer)
{
    ikvi_text text = {buffer, buffer != NULL ? 32 : 0, 0};
    ikvi_text_unsigned(&text, time_ns / 1000000);
    uint32_t rest = (uint32_t)(time_ns % 1000000);
    if (rest != 0) {
        char digits[6];
        size_t count = 6;
        for (size_t i = 6; i-- > 0; rest /= 10)
            digits[i] = (char)('0' + rest % 10);
        while (digits[count - 1] == '0')
            count--;
        ikvi_text_add(&text, ".");
        ikvi_text_bytes(&text, digits, count);
    }
    return ikvi_text_end(&text);
}

/* Newton's method in double, the same on every machine. */
float ikvi_sqrt(double value)
{
    if (!(value > 0) || value - value != 0)
        return 0;
    union {
        double number;
        uint64_t bits;
    } guess = {value};
    guess.bits = (guess.bits >> 1) + 0x1ff8000000000000u;
    double root = guess.number;
    for (int i = 0; i < 5; i++)
        root = (root + value / root) / 2;
    return (float)root;
}
