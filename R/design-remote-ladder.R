# The ladder on a table in a database: one pass gives every candidate's score statistic (Rao 1948), and those that may
# win by likelihood ratio are fitted.

# Candidates are fitted from the largest score statistic down, until the next is less than this share of the largest
# likelihood-ratio statistic found. The two agree as units grow; twofold differences are far off.
score_share <- 0.5

# See ladder_ground(). Parts are words, and come standardised in two passes when they are first tried.
remote_ladder <- function(x, link, call) {
  study <- study_of(x)
  rows <- study$rows
  weight <- remote_kept_weight(x)
  total <- row_sums(rows, list(all = weight, treated = multiplied(weight, quote(u_z))))
  climb <- list(rows = rows, weight = weight, link = link, scale = sum(x$size) / total[["all"]],
                share = total[["treated"]] / total[["all"]], total = total[["all"]])
  known <- new.env()
  ready <- function(parts) {
    parts <- parts[!duplicated(names(parts))]
    new <- parts[!vapply(names(parts), exists, NA, known, inherits = FALSE)]
    if (length(new) > 0L) list2env(standardised_parts(rows, new), known)
    mget(names(parts), known)
  }
  lone <- remote_lone(study$columns, design_moments(study)$before)
  part <- function(columns, formula) {
    matrix <- remote_matrix(columns, formula, lone)
    stats::setNames(matrix$words, matrix$names)
  }
  list(columns = study$columns, part = part, times = word_products,
       own = function(column, name) value_words(pool_words(stats::setNames(list(column), name), lone)[[1L]], name),
       begin = function(parts) begin_remote_ladder(climb, parts, ready, call),
       trials = function(state, candidates, tick) {
         all <- ready(c(state$parts, unlist(unname(candidates), recursive = FALSE)))
         words_of <- function(parts) unlist(unname(all[names(parts)]))
         state$words <- words_of(state$parts)
         remote_trials(climb, state, lapply(candidates, words_of), tick)
       })
}

# Every word of a times every word of b.
word_products <- function(a, b) {
  unlist(lapply(unname(b), function(one) lapply(unname(a), function(other) call("*", other, one))))
}

# Words about their means and on one scale.
standardised_parts <- function(rows, parts) {
  words <- unlist(unname(parts))
  away <- Map(function(word, mean) say_word(rows, "c", call("-", word, mean)), words, word_means(rows, words))
  spread <- sqrt(row_sums(rows, lapply(unname(away), function(word) call("*", word, word))) / rows$count)
  scaled <- Map(function(word, d) say_word(rows, "v", call("/", word, d)), away, ifelse(spread > 0, spread, 1))
  stats::setNames(unname(split(unname(scaled), rep(seq_along(parts), lengths(parts)))), names(parts))
}

begin_remote_ladder <- function(climb, parts, ready, call) {
  share <- climb$share
  state <- list(parts = parts, terms = names(parts), df = 0L, coefficients = remote_links[[climb$link]]$start(share),
                loglik = climb$scale * climb$total * (share * log(share) + (1 - share) * log1p(-share)))
  if (length(parts) == 0L) return(state)
  trial <- remote_trial(climb, state, unlist(unname(ready(parts))))
  names <- unlist(lapply(unname(parts), names))
  check_remote_fit(list(status = trial$status, beta = trial$coefficients), list(names = names), call)
  changed <- c("df", "coefficients", "loglik")
  state[changed] <- trial[changed]
  state
}

remote_trials <- function(climb, state, candidates, tick) {
  tick(plural(length(candidates), "candidate"))
  score <- score_statistics(climb, state, candidates)
  trials <- lapply(candidates, function(own) {
    list(statistic = NA_real_, df = length(own), loglik = NA_real_, coefficients = NULL)
  })
  best <- 0
  for (k in order(score, decreasing = TRUE, na.last = NA)) {
    if (score[k] < score_share * best) break
    tick(names(candidates)[k])
    trials[[k]] <- remote_trial(climb, state, candidates[[k]])
    best <- max(best, trials[[k]]$statistic, na.rm = TRUE)
  }
  trials
}

# As ladder_trial(): the fit with further words.
remote_trial <- function(climb, state, words) {
  own <- seq_along(words) + length(state$words) + 1L
  fit <- climb_remote(climb$rows, list(words = c(state$words, words)), quote(u_z), climb$weight, climb$link,
                      state$coefficients)
  df <- length(setdiff(own, fit$aliased))
  loglik <- climb$scale * fit$value
  usable <- fit$status == "converged" && df > 0L
  list(statistic = if (usable) 2 * (loglik - state$loglik) / df else NA_real_, df = df, loglik = loglik,
       coefficients = fit$coefficients, status = fit$status)
}

# Of each candidate, per degree of freedom: its gradient at the fit so far, by the information that it leaves
# unexplained. NA where it brings nothing new.
score_statistics <- function(climb, state, candidates) {
  rows <- scratch_rows(climb$rows)
  linear <- say_word(rows, "l", line_of(state$words, state$coefficients[-1L], state$coefficients[1L]))
  said <- link_words_of(rows, climb$link, linear, quote(u_z))
  residual <- say_word(rows, "r", call("*", climb$weight, said$residual))
  h <- say_word(rows, "h", call("*", climb$weight, said$variance))
  base <- c(list(1), state$words)
  exprs <- c(products_with(h, state$words), unlist(lapply(candidates, function(own) {
    across <- lapply(own, function(word) lapply(base, function(other) multiplied(multiplied(h, word), other)))
    c(lapply(own, function(word) call("*", residual, word)), unlist(across), products_among(h, own))
  })))
  sums <- row_sums(rows, unname(exprs))
  size <- length(base)
  take <- function(count) {
    taken <- sums[seq_len(count)]
    sums <<- sums[-seq_len(count)]
    taken
  }
  inside <- symmetric_of(take(size * (size + 1) / 2), size)
  vapply(candidates, function(own) {
    width <- length(own)
    gradient <- take(width)
    across <- matrix(take(width * size), size)
    information <- rbind(cbind(inside, across), cbind(t(across), symmetric_of(take(width * (width + 1) / 2), width)))
    used <- setdiff(seq_len(size + width), core_repeated_columns(information))
    new <- used[used > size]
    if (length(new) == 0L) return(NA_real_)
    pull <- c(numeric(size), gradient)[used]
    climb$scale * sum(pull * solve(information[used, used, drop = FALSE], pull)) / length(new)
  }, 0)
}
