# The door to chance: one check of seeds, one way to derive others from them, one place where R's random stream is set.

# A whole number that R's generators take. null: may it be left out?
check_seed <- function(seed, null = FALSE, arg = rlang::caller_arg(seed), call = rlang::caller_env()) {
  if (null && is.null(seed)) return(invisible(seed))
  if (is_number(seed) && seed == floor(seed) && is_inside(seed, 0, 2^31 - 1, FALSE)) return(invisible(seed))
  abort_input(c("{.arg {arg}} must be a whole number from 0 to 2147483647.", x = "It is {describe_value(seed)}."),
              call = call)
}

# A seed for piece k of some work, such as a draw: hashed from the user's seed, a word for the kind of work and k, so
# that neither neighbouring seeds nor different kinds of work share streams. As large as set.seed() takes.
sub_seed <- function(seed, work, k = 0) core_sub_seed(seed, work, k)

# Runs an expression on a random stream of its own; the user's stream and generator are put back, or taken away again
# when there was none.
with_own_seed <- function(seed, expr) {
  if (exists(".Random.seed", globalenv(), inherits = FALSE)) {
    old <- get(".Random.seed", globalenv(), inherits = FALSE)
    on.exit(assign(".Random.seed", old, envir = globalenv()))
  } else {
    on.exit(rm(".Random.seed", envir = globalenv()))
  }
  set.seed(seed, kind = "Mersenne-Twister", normal.kind = "Inversion", sample.kind = "Rejection")
  expr
}
