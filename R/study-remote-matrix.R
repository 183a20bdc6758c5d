# Model matrices as words: a column is a call in the words of the study's columns, named as covariate_matrix() names it.

# A formula's variables are columns or calls that SQL has words for; its terms their products.
check_remote_formula <- function(formula, columns, call) {
  if (is.null(formula)) return(invisible(formula))
  terms <- stats::terms(formula)
  for (variable in as.list(attr(terms, "variables"))[-1L]) check_said(variable, "covariates", call)
  if (any(attr(terms, "factors") == 2L)) {
    abort_unsupported(c("A product in {.arg covariates} must come with its parts.",
                        x = "{.code {deparse1(formula)}} lacks some.",
                        i = "Write {.code a * b} in place of {.code a:b}."), call = call)
  }
}

# list(words: calls, names). lone: levels that only one arm has, which are pooled (pool_levels()).
remote_matrix <- function(columns, formula = NULL, lone = NULL) {
  columns <- pool_words(columns, lone)
  if (is.null(formula)) {
    parts <- unlist(unname(Map(function(column, name) c(value_words(column, name), flag_words(column, name)), columns,
                               names(columns))), recursive = FALSE)
  } else {
    flags <- unlist(unname(Map(flag_words, columns, names(columns))), recursive = FALSE)
    parts <- c(matrix_terms(columns, stats::terms(formula)), flags)
  }
  list(words = unname(parts), names = names(parts))
}

level_word <- function(column, codes) {
  hit <- Reduce(function(a, b) call("|", a, b), lapply(codes, function(code) call("==", column$word, code)))
  call("ifelse", hit, 1, 0)
}

value_words <- function(column, name) {
  if (column$kind != "factor") return(stats::setNames(list(column$word), name))
  kept <- seq_along(column$levels)[-1L]
  stats::setNames(lapply(column$codes_of[kept], function(codes) level_word(column, codes)),
                  paste0(name, ": ", column$levels[kept]))
}

flag_words <- function(column, name) {
  if (is.null(column$flag)) return(list())
  stats::setNames(list(column$flag), paste0(name, ": ", missing_level))
}

# Levels with the codes that count as them.
pool_words <- function(columns, lone) {
  for (name in names(columns)) {
    column <- columns[[name]]
    if (column$kind == "factor") {
      codes_of <- as.list(seq_along(column$levels))
      gone <- lone[[name]]$levels
      if (length(gone) > 0L) {
        to <- which.max(replace(column$count, gone, -1))
        codes_of[[to]] <- c(to, gone)
        column$levels <- column$levels[-gone]
        codes_of <- codes_of[-gone]
      }
      column$codes_of <- codes_of
    }
    if (isTRUE(lone[[name]]$flag)) column["flag"] <- list(NULL)
    columns[[name]] <- column
  }
  columns
}

# As stats::model.matrix() lays them out: term by term, the first variable's columns running fastest.
matrix_terms <- function(columns, terms) {
  variables <- as.list(attr(terms, "variables"))[-1L]
  factors <- attr(terms, "factors")
  of_variable <- lapply(variables, function(variable) {
    if (is.name(variable)) return(value_words(columns[[as.character(variable)]], as.character(variable)))
    words <- lapply(columns[all.vars(variable)], `[[`, "word")
    stats::setNames(list(do.call(substitute, list(variable, words))), deparse1(variable))
  })
  out <- lapply(seq_len(ncol(factors)), function(term) {
    Reduce(function(a, b) {
      pairs <- expand.grid(a = seq_along(a), b = seq_along(b))
      stats::setNames(Map(function(i, j) call("*", a[[i]], b[[j]]), pairs$a, pairs$b),
                      paste(names(a)[pairs$a], names(b)[pairs$b], sep = ":"))
    }, of_variable[which(factors[, term] > 0)])
  })
  unlist(unname(out), recursive = FALSE)
}

# Columns of a matrix centred near their means and scaled to a spread near 1: list(words, centre, scale, names). One
# pass for the means where they are not known, one for the cross-products, which are kept with the study.
remote_standardised <- function(study, matrix, products = remote_products(study, matrix)) {
  spread <- sqrt(pmax(diag(products$second) / products$total - (products$first / products$total)^2, 0))
  scale <- ifelse(spread > 1e-13 * abs(products$centre) & spread > 0, spread, 1)
  rows <- study$rows
  words <- Map(function(word, d) say_word(rows, "v", call("/", word, d)), products$words, scale)
  list(words = unname(words), centre = products$centre, scale = scale, names = matrix$names, products = products)
}

# Means of words, unweighted: of columns they are known since the study was framed.
word_means <- function(rows, words) {
  known <- vapply(words, function(word) is.name(word) && as.character(word) %in% names(rows$check), NA)
  out <- numeric(length(words))
  out[known] <- rows$check[vapply(words[known], as.character, "")] / rows$count
  if (any(!known)) out[!known] <- row_sums(rows, unname(words[!known])) / rows$count
  out
}

# Sums and cross-products of the columns, weighted by s, measured from `centre`: as core_cross_products() of both arms;
# treated, first_treated: those sums of the treated alone.
remote_products <- function(study, matrix) {
  rows <- study$rows
  key <- paste(c("products", matrix$names), collapse = "\r")
  if (!is.null(rows$kept[[key]])) return(rows$kept[[key]])
  centre <- word_means(rows, matrix$words)
  words <- unname(Map(function(word, m) say_word(rows, "c", call("-", word, m)), matrix$words, centre))
  p <- length(words)
  pairs <- which(lower.tri(diag(p), diag = TRUE), arr.ind = TRUE)
  s <- quote(u_s)
  exprs <- c(list(s, quote(u_s * u_s), quote(u_s * u_z)), lapply(words, function(w) call("*", s, w)),
             lapply(words, function(w) call("*", quote(u_s * u_z), w)),
             lapply(seq_len(nrow(pairs)), function(k) {
               call("*", call("*", s, words[[pairs[k, 1L]]]), words[[pairs[k, 2L]]])
             }))
  sums <- row_sums(rows, unname(exprs))
  second <- matrix(0, p, p)
  second[pairs] <- sums[-seq_len(2L * p + 3L)]
  second[upper.tri(second)] <- t(second)[upper.tri(second)]
  out <- list(total = sums[1L], square = sums[2L], centre = centre, first = sums[3L + seq_len(p)], second = second,
              treated = sums[3L], first_treated = sums[3L + p + seq_len(p)], words = words)
  rows$kept[[key]] <- out
  out
}
