/* number.c - numbers printed by the shortest text that reads back the same.
 *
 * Without libm and locale, and the same on every CPU. Floats, which most
 * numbers of a game are, take three products of integers. Of doubles those of
 * 0 to 6 decimals are found by trying, in exact double arithmetic; the rest goes
 * through exact big integers.
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
    IKVI_CHECK(bits >= 0);
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
    IKVI_CHECK(count < BIG_WORDS || carry == 0);
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

/* number * 10^exponent. A double takes 17 digits at most. */
typedef struct decimal {
    uint64_t number;
    int exponent;
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

/* ------------------------------------------------------------ of floats -- */

enum {
    LEAST_POWER = -31 /* of ten, in the table */
};

/* The powers of ten from 10^-31 to 10^45: the highest 64 bits of each, and one
 * more, so that what is multiplied with them is never too small. */
static const uint64_t powers_of_ten[] = {
    0x81ceb32c4b43fcf5u, 0xa2425ff75e14fc32u, 0xcad2f7f5359a3b3fu,
    0xfd87b5f28300ca0eu, 0x9e74d1b791e07e49u, 0xc612062576589ddbu,
    0xf79687aed3eec552u, 0x9abe14cd44753b53u, 0xc16d9a0095928a28u,
    0xf1c90080baf72cb2u, 0x971da05074da7befu, 0xbce5086492111aebu,
    0xec1e4a7db69561a6u, 0x9392ee8e921d5d08u, 0xb877aa3236a4b44au,
    0xe69594bec44de15cu, 0x901d7cf73ab0acdau, 0xb424dc35095cd810u,
    0xe12e13424bb40e14u, 0x8cbccc096f5088ccu, 0xafebff0bcb24aaffu,
    0xdbe6fecebdedd5bfu, 0x89705f4136b4a598u, 0xabcc77118461cefdu,
    0xd6bf94d5e57a42bdu, 0x8637bd05af6c69b6u, 0xa7c5ac471b478424u,
    0xd1b71758e219652cu, 0x83126e978d4fdf3cu, 0xa3d70a3d70a3d70bu,
    0xcccccccccccccccdu, 0x8000000000000001u, 0xa000000000000001u,
    0xc800000000000001u, 0xfa00000000000001u, 0x9c40000000000001u,
    0xc350000000000001u, 0xf424000000000001u, 0x9896800000000001u,
    0xbebc200000000001u, 0xee6b280000000001u, 0x9502f90000000001u,
    0xba43b74000000001u, 0xe8d4a51000000001u, 0x9184e72a00000001u,
    0xb5e620f480000001u, 0xe35fa931a0000001u, 0x8e1bc9bf04000001u,
    0xb1a2bc2ec5000001u, 0xde0b6b3a76400001u, 0x8ac7230489e80001u,
    0xad78ebc5ac620001u, 0xd8d726b7177a8001u, 0x878678326eac9001u,
    0xa968163f0a57b401u, 0xd3c21bcecceda101u, 0x84595161401484a1u,
    0xa56fa5b99019a5c9u, 0xcecb8f27f4200f3bu, 0x813f3978f8940985u,
    0xa18f07d736b90be6u, 0xc9f2c9cd04674edfu, 0xfc6f7c4045812297u,
    0x9dc5ada82b70b59eu, 0xc5371912364ce306u, 0xf684df56c3e01bc7u,
    0x9a130b963a6c115du, 0xc097ce7bc90715b4u, 0xf0bdc21abb48db21u,
    0x96769950b50d88f5u, 0xbc143fa4e250eb32u, 0xeb194f8e1ae525feu,
    0x92efd1b8d0cf37bfu, 0xb7abc627050305aeu, 0xe596b7b0c643c71au,
    0x8f7e32ce7bea5c70u, 0xb35dbf821ae4f38cu,
};

enum {
    POWERS = sizeof powers_of_ten / sizeof powers_of_ten[0]
};

/* The upper bits of a product with a power; the lowest is 1 if there is a rest,
 * so that what is compared later is on the right side of it. */
static uint32_t upper_product(uint64_t power, uint32_t factor)
{
    uint64_t low = (power & UINT32_MAX) * factor;
    uint64_t high = (power >> 32) * factor + (low >> 32);
    return (uint32_t)(high >> 32) | ((uint32_t)high > 1);
}

/* The shortest decimal of a float, by Giulietti's method (The Schubfach way to
 * render doubles, 2020): the number and both ends of what reads back as it are
 * scaled by one power of ten, so that the ends are at least 1 and less than 10
 * apart; then it is one of the two whole numbers about it, or of tens. All are
 * kept times 4, as the ends lie between. */
static decimal shortest_float(binary b)
{
    int q = b.exponent;
    uint32_t even = b.mantissa % 2 == 0, four = (uint32_t)b.mantissa * 4;
    /* floor(log10(2^q)), of three quarters of it at a boundary; and of
     * log2(10^-k): products that are exact in this range, see the paper. */
    int k = (q * 1262611 - (b.boundary ? 524031 : 0)) >> 22;
    int shift = q + ((-k * 1741647) >> 19) + 1;
    uint32_t nth = (uint32_t)(-k - LEAST_POWER);
    IKVI_CHECK(nth < POWERS);
    uint64_t power = powers_of_ten[nth];
    uint32_t low = upper_product(power, (four - (b.boundary ? 1 : 2)) << shift);
    uint32_t value = upper_product(power, four << shift);
    uint32_t high = upper_product(power, (four + 2) << shift);
    uint32_t least = low + !even, most = high - !even;
    uint32_t digits = value / 4;
    IKVI_CHECK(shift >= 1 && shift <= 4);
    uint32_t tens = digits / 10;
    bool under_tens = least <= 40 * tens, over_tens = 40 * tens + 40 <= most;
    bool in_tens = tens > 0 && under_tens != over_tens;
    bool under = least <= 4 * digits, over = 4 * digits + 4 <= most;
    bool nearer = value >= 4 * digits + 2; /* where both would do */
    over = (over & !under) | (nearer & (over == under));
    /* Both are made, without a branch: which it is can't be guessed. */
    return (decimal){in_tens ? tens + over_tens : digits + over, k + in_tens};
}

/* ------------------------------------------------------------ of doubles -- */

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
    IKVI_CHECK(b.mantissa > 0); /* 0 has no first digit to begin with */
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

    decimal d = {0, guess_point(b)};
    if (d.exponent > 0)
        big_power_of_ten(&scale, d.exponent);
    big *down[] = {&rest, &low, &high};
    for (int i = 0; i < 3 && d.exponent < 0; i++)
        big_power_of_ten(down[i], -d.exponent);

    /* Readers round a tie to the even one: then the gap's ends belong to it. */
    bool even = b.mantissa % 2 == 0;
    while (big_compare_sum(&rest, &high, &scale) >= (even ? 0 : 1)) {
        big_scale(&scale, 10);
        d.exponent++;
    }
    for (;;) {
        for (int i = 0; i < 3; i++)
            big_scale(down[i], 10);
        d.exponent--;
        uint32_t digit = 0;
        for (; big_compare(&rest, &scale) >= 0; digit++)
            big_subtract(&rest, &scale);
        IKVI_CHECK(digit < 10);
        int below = big_compare(&rest, &low);
        int above = big_compare_sum(&rest, &high, &scale);
        bool stop_low = below < 0 || (even && below == 0);
        bool stop_high = above > 0 || (even && above == 0);
        if (!stop_low && !stop_high) {
            d.number = d.number * 10 + digit;
            continue;
        }
        /* Both would do: the nearer digit. */
        bool up = stop_high &&
                  (!stop_low || big_compare_sum(&rest, &rest, &scale) >= 0);
        d.number = d.number * 10 + digit + up;
        return d;
    }
}

/* The usual case: at most 6 decimals and 15 digits, where the division of two
 * exact doubles is what reading the text would give. */
static bool short_decimal(double value, decimal *d)
{
    double power = 1;
    for (int decimals = 0; decimals <= 6; decimals++) {
        /* Below 2^53 whole numbers are exact, and the division rounds once, as
         * reading does. */
        double scaled = value * power + 0.5;
        if (scaled >= 1e15)
            return false;
        uint64_t whole = (uint64_t)scaled;
        if ((double)whole / power == value) {
            *d = (decimal){whole, -decimals};
            return true;
        }
        power *= 10;
    }
    return false;
}

enum {
    TEN = 10,    /* digits of a number of 32 bits */
    DIGITS = 20, /* of a number of 64 bits */
    PRINTED = 32 /* characters, the zero's included */
};

/* The digits of a number up to the end of `digits`; how many they are. */
static int print_digits(uint64_t number, char *digits)
{
    int at = DIGITS;
    do {
        digits[--at] = (char)('0' + number % 10);
        number /= 10;
    } while (number != 0);
    return DIGITS - at;
}

/* How many digits a number has. */
static int count_digits(uint32_t n)
{
    return 1 + (n >= 10) + (n >= 100) + (n >= 1000) + (n >= 10000) +
           (n >= 100000) + (n >= 1000000) + (n >= 10000000) + (n >= 100000000) +
           (n >= 1000000000);
}

/* How many zeros are at its end; it is not 0. */
static int count_zeros(uint32_t n)
{
    return (n % 10 == 0) + (n % 100 == 0) + (n % 1000 == 0) + (n % 10000 == 0) +
           (n % 100000 == 0) + (n % 1000000 == 0) + (n % 10000000 == 0) +
           (n % 100000000 == 0) + (n % 1000000000 == 0);
}

/* A number of 32 bits of which `point` digits are before the point, at least one
 * and at most all. The same steps and copies whatever the number: how many there
 * are can't be guessed by a processor. */
static char *print_usual(char *to, uint32_t number, int count, int point)
{
    char digits[2 * TEN] = {0};
    const char *from = digits + TEN - count;
    int decimals = count - point - count_zeros(number);
    bool has_decimals = decimals > 0;
    IKVI_CHECK(point > 0 && point <= count && count <= TEN);
    for (int i = TEN - 2; i >= 0; i -= 2, number /= 100) {
        uint32_t pair = number % 100;
        digits[i] = (char)('0' + pair / 10);
        digits[i + 1] = (char)('0' + pair % 10);
    }
    memcpy(to, from, TEN);
    to += point;
    *to = '.';
    memcpy(to + 1, from + point, TEN);
    return to + has_decimals * (decimals + 1);
}

/* Up to 16 digits before the point and 5 zeros behind it are written out, as
 * people would; beyond that with an exponent. Zeros at the end of the digits are
 * the exponent's. The place after the text. */
static char *print_decimal(char *to, decimal d)
{
    char digits[DIGITS];
    if (d.number > 0 && d.number <= UINT32_MAX && d.exponent <= 0) {
        int all = count_digits((uint32_t)d.number);
        if (all + d.exponent > 0)
            return print_usual(to, (uint32_t)d.number, all, all + d.exponent);
    }
    int count = print_digits(d.number, digits);
    const char *from = digits + DIGITS - count, *end = digits + DIGITS;
    for (; count > 1 && end[-1] == '0'; count--, end--)
        d.exponent++;
    int point = count + d.exponent;
    if (point > 16 || point < -5) {
        *to++ = *from++;
        if (from < end)
            *to++ = '.';
        while (from < end)
            *to++ = *from++;
        ikvi_text exponent = {to, 8, 0};
        ikvi_text_add(&exponent, "e");
        ikvi_text_signed(&exponent, point - 1);
        return to + exponent.length;
    }
    if (point <= 0)
        *to++ = '0';
    const char *whole = point < count ? from + (point > 0 ? point : 0) : end;
    while (from < whole)
        *to++ = *from++;
    for (int i = count; i < point; i++)
        *to++ = '0';
    if (from < end)
        *to++ = '.';
    for (int i = point; i < 0; i++)
        *to++ = '0';
    while (from < end)
        *to++ = *from++;
    return to;
}

/* T3. */
size_t ikv_number_format(double value, bool is_float, char *buffer)
{
    char own[PRINTED], *begin = buffer != NULL ? buffer : own, *to = begin;
    double size = value < 0 ? -value : value;
    double most = is_float ? 3.4028234663852886e38 : 1.7976931348623157e308;
    if (!(size <= most)) {
        const char *name = value < 0 ? "-inf" : "inf";
        ikvi_text text = {begin, PRINTED, 0};
        ikvi_text_add(&text, value != value ? "nan" : name);
        return ikvi_text_end(&text);
    }
    decimal d = {0, 0};
    *to = '-';
    to += value < 0;
    /* Zero has a digit, and loses its sign only if it is below nothing. */
    if (is_float && (float)size > 0)
        d = shortest_float(take_apart(size, true));
    else if (size > 0 && !short_decimal(size, &d))
        d = shortest(take_apart(size, false));
    to = print_decimal(to, d);
    *to = '\0';
    return (size_t)(to - begin);
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

/* In integers: what needs no more links no arithmetic of doubles. */
float ikvi_quotient(uint64_t number, uint64_t by)
{
    float scale = 1;
    IKVI_CHECK(by != 0);
    if (number == 0)
        return 0;
    /* So that it has more bits than a float; what is left over counts as one
     * bit below them. */
    for (; number >> 62 == 0; number *= 2)
        scale /= 2;
    for (; by >> 36 != 0; by /= 2)
        scale /= 2;
    return (float)(number / by | (number % by != 0)) * scale;
}
