# Makes the table of calls of test_absurd.c from the public headers: for each
# function one that calls it with usual arguments but for one, and what its
# header says of it. A parameter's type T, as a word, is given by the function
# given_T(bad); how many absurd ones there are by ABSURD_T.

function word(type) {
    gsub(/\*/, " p", type)
    gsub(/\[[^]]*\]/, " p", type)
    gsub(/^ +| +$/, "", type)
    gsub(/ +/, "_", type)
    return type
}

# Sizes of what a pointer before them points to can only be too small.
function is_size(name) {
    return name ~ /^(count|size|room|data_size|buffer_size|length)$/
}

function quoted(text) {
    gsub(/\\/, "\\\\", text)
    gsub(/"/, "\\\"", text)
    return "\"" text "\""
}

function emit(prototype, doc,    head, list, n, i, parts, name, kind, p, type, arguments, values, counts) {
    sub(/^IKV_API /, "", prototype)
    sub(/;.*$/, "", prototype)
    i = index(prototype, "(")
    head = substr(prototype, 1, i - 1)
    list = substr(prototype, i + 1, length(prototype) - i - 1)
    match(head, /[a-z_0-9]+$/)
    name = substr(head, RSTART)
    returns = substr(head, 1, RSTART - 1)
    kind = word(returns)
    if (name ~ skip) return
    n = list == "void" ? 0 : split(list, parts, ",")
    body = ""
    arguments = counts = first = ""
    for (i = 1; i <= n; i++) {
        p = parts[i]
        gsub(/^ +| +$/, "", p)
        extra = ""
        if (match(p, /\[[^]]*\]$/)) { extra = " *"; p = substr(p, 1, RSTART - 1) }
        match(p, /[a-z_0-9]+$/)
        parameter = substr(p, RSTART)
        type = word(substr(p, 1, RSTART - 1) extra)
        if (i == 1) first = type
        if (is_size(parameter)) type = type "_size"
        if (type == "const_char_p") type = "text_" parameter
        if (parameter == "file") type = "file"
        body = body "    " substr(p, 1, RSTART - 1) extra " a" i " = given_" type "(bad == " i " ? nth : -1);\n"
        arguments = arguments (i > 1 ? ", " : "") "a" i
        counts = counts (i > 1 ? ", " : "") "ABSURD_" type
    }
    printf "static void call_%s(int bad, int nth)\n{\n    (void)bad, (void)nth;\n%s", name, body
    if (kind == "ikv_status")
        printf "    returned(%s(%s));\n}\n", name, arguments
    else if (kind == "ikv_outcome")
        printf "    returned(%s(%s).status);\n}\n", name, arguments
    else if (kind == "void")
        printf "    %s(%s);\n}\n", name, arguments
    else if (kind == "const_char_p")
        printf "    answered_text(%s(%s));\n}\n", name, arguments
    else
        printf "    %s answer = %s(%s);\n    answered(&answer, sizeof answer);\n}\n", returns, name, arguments
    rows = rows sprintf("    {\"%s\", call_%s, %d, {%s}, %s, %d, %d},\n", name, name, n,
        n > 0 ? counts : "0", quoted(doc), kind == "ikv_status" || kind == "ikv_outcome", first ~ /_p$/)
}

BEGIN { skip = "^(" leave_out ")$" }

# Comments, and what follows them.
/\/\*/ && !/\*\/.*;/ { comment = ""; inside = 1 }
inside { line = $0; gsub(/[ \t]+/, " ", line); comment = comment line; if (/\*\//) inside = 0; next }
/^IKV_API/ {
    prototype = $0
    while (prototype !~ /;/ && (getline line) > 0) prototype = prototype " " line
    gsub(/[ \t]+/, " ", prototype)
    emit(prototype, comment)
}

END { printf "static const absurd_row absurd_rows[] = {\n%s};\n", rows }
