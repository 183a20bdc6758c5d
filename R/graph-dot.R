# A reader for the part of DOT that describes directed graphs: digraph, chains, groups in braces, quoted names, comments
# and attributes.

dot_pattern <- paste0(
  "\"(?:[^\"\\\\]|\\\\.)*\"",                # a quoted name
  "|->|--|[{}\\[\\];,=]",                    # marks
  "|[^\\s\"{}\\[\\];,=>-]+(?:-(?!>|-)[^\\s\"{}\\[\\];,=>-]+)*"  # a bare name, single hyphens inside it allowed
)

dot_tokens <- function(text) {
  text <- gsub("/\\*[\\s\\S]*?\\*/", " ", text, perl = TRUE)
  text <- gsub("(?m)(//|^\\s*#).*$", " ", text, perl = TRUE)
  found <- gregexpr(dot_pattern, text, perl = TRUE)[[1L]]
  regmatches(text, list(found))[[1L]]
}

unquote_dot <- function(token) {
  if (!startsWith(token, "\"")) return(token)
  gsub("\\\\(.)", "\\1", substr(token, 2L, nchar(token) - 1L))
}

parse_dot <- function(text, call) {
  tokens <- dot_tokens(text)
  open <- match("{", tokens)
  header <- tolower(tokens[seq_len(if (is.na(open)) 0L else open - 1L)])
  if (is.na(open) || utils::tail(tokens, 1L) != "}" || !"digraph" %in% header) {
    abort_input(c(
      "{.arg edges} can't be read as a graph.",
      i = "Give DOT text such as {.code digraph {{ a -> b }}}, a data frame with from and to, or a file of either."
    ), call = call)
  }
  state <- new.env(parent = emptyenv())
  state$tokens <- tokens[seq(open + 1L, length.out = length(tokens) - open - 1L)]
  state$from <- state$to <- state$nodes <- character()
  state$roles <- list()
  while (length(state$tokens) > 0L) dot_statement(state, call)
  list(from = state$from, to = state$to, nodes = state$nodes, roles = state$roles)
}

# One statement: a chain of names and groups with arrows between, then perhaps attributes.
dot_statement <- function(state, call) {
  if (state$tokens[1L] %in% c(";", ",")) return(dot_take(state))
  left <- dot_group(state, call)
  everything <- left
  while (length(state$tokens) > 0L && state$tokens[1L] %in% c("->", "--")) {
    if (dot_take(state) == "--") {
      abort_input(c("Every edge must have a direction.", x = "There is {.code --} after {.val {left}}.",
                    i = "Write {.code ->}; for a hidden common cause add a node and list it as unobserved."),
                  call = call)
    }
    right <- dot_group(state, call)
    state$from <- c(state$from, rep(left, each = length(right)))
    state$to <- c(state$to, rep(right, times = length(left)))
    everything <- c(everything, right)
    left <- right
  }
  if (identical(state$tokens[1L], "=")) {  # a setting of the graph, such as rankdir = LR
    dot_take(state)
    dot_take(state)
    return(invisible())
  }
  attributes <- dot_attributes(state, call)
  if (length(everything) == 1L && everything %in% c("node", "edge", "graph")) return(invisible())
  state$nodes <- union(state$nodes, everything)
  dot_roles(state, everything, attributes, call)
}

dot_take <- function(state) {
  token <- state$tokens[1L]
  state$tokens <- state$tokens[-1L]
  token
}

# A name, or the names in braces.
dot_group <- function(state, call) {
  token <- dot_take(state)
  if (is.na(token) || token %in% c("->", "--", "]", "[", "}", "=")) {
    abort_input("The graph's text has {.val {token}} where a name should be.", call = call)
  }
  if (token != "{") return(unquote_dot(token))
  names <- character()
  while (length(state$tokens) > 0L && state$tokens[1L] != "}") {
    token <- dot_take(state)
    if (!token %in% c(";", ",")) names <- c(names, unquote_dot(token))
  }
  dot_take(state)
  names
}

# Words in square brackets: names of attributes, and the values of role.
dot_attributes <- function(state, call) {
  words <- character()
  while (length(state$tokens) > 0L && state$tokens[1L] == "[") {
    end <- match("]", state$tokens)
    if (is.na(end)) abort_input("The graph's text has a {.code [} that is not closed.", call = call)
    words <- c(words, state$tokens[seq_len(end)])
    state$tokens <- state$tokens[-seq_len(end)]
  }
  vapply(words, unquote_dot, "", USE.NAMES = FALSE)
}

dot_roles <- function(state, nodes, words, call) {
  if ("both" %in% words) {
    abort_input(c("An arrow can't point both ways.",
                  i = "Add the hidden common cause as a node of its own and list it as unobserved."), call = call)
  }
  for (role in intersect(c("exposure", "outcome", "unobserved"), tolower(words))) {
    state$roles[[role]] <- union(state$roles[[role]], nodes)
  }
}
