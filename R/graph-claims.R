#' List and test what a graph claims about the data
#'
#' Two observed nodes without an arrow between them are independent given some set, if the graph is right.
#' `testable_claims()` lists one minimal such set for each pair; `test_claims()` tests each in data: by partial
#' correlation when all columns are numeric, else by comparing nested models (linear, or logistic for a yes/no column;
#' several-level columns by the multivariate linear model of their indicators, Pillai's trace).
#'
#' @param graph A `twin_graph`.
#' @param data A data frame that has the observed nodes as columns.
#' @param adjust How p-values are adjusted for the number of claims: a method of [stats::p.adjust()], `"holm"` by
#'   default.
#' @param level A claim whose adjusted p-value is at most this is contradicted; default 0.05.
#' @return A data frame of class `twin_claims`, printed as statements, with one row per claim: `x`, `y`, `given` (a list
#'   of character vectors). `test_claims()` adds `n` (complete rows), `test`, `estimate` (partial correlation, NA for
#'   other tests), `p.value`, `p.adjusted` and `verdict` (`"contradicted"`, `"not contradicted"` or `"not tested"`),
#'   sorted by evidence against the graph, the strongest first.
#' @section Errors: `twin_error_input` for nodes that are not columns, or columns that can't be used.
#' @family assumptions
#' @examples
#' graph <- assume_graph("digraph { boat_length -> crew_size -> income; boat_length -> past_income }")
#' testable_claims(graph)
#' test_claims(graph, crews)
#' @export
testable_claims <- function(graph) {
  check_class(graph, "twin_graph", "assume_graph")
  nodes <- rownames(graph$parents)
  observed <- match(observed_nodes(graph), nodes)
  pairs <- if (length(observed) > 1L) utils::combn(observed, 2L, simplify = FALSE)
  claims <- lapply(pairs, function(pair) {
    if (graph$parents[pair[1L], pair[2L]] || graph$parents[pair[2L], pair[1L]]) return(NULL)
    set <- core_separating_sets(graph$parents, pair[1L], pair[2L], setdiff(observed, pair), most = 1L)
    if (is.null(set)) return(NULL)
    data.frame(x = nodes[pair[1L]], y = nodes[pair[2L]], given = I(list(sort(nodes[set[[1L]]], method = "radix"))))
  })
  claims <- do.call(rbind, claims)
  if (is.null(claims)) claims <- data.frame(x = character(), y = character(), given = I(list()))
  structure(claims, class = c("twin_claims", "data.frame"))
}

#' @rdname testable_claims
#' @export
test_claims <- function(graph, data, adjust = "holm", level = 0.05) {
  claims <- testable_claims(graph)
  check_number(level, min = 0, max = 1, open = TRUE)
  check_units(data, rlang::current_env())
  adjust <- check_choice(adjust, stats::p.adjust.methods)
  check_columns(observed_nodes(graph), data, "graph")
  claims_tested(claims, data, adjust, level)
}

# The columns that the claims name must be in the data.
claims_tested <- function(claims, data, adjust, level, call = rlang::caller_env()) {
  named <- unique(c(claims$x, claims$y, unlist(claims$given)))
  columns <- lapply(stats::setNames(nm = named), function(name) plain_column(data[[name]], name, call))
  tests <- lapply(seq_len(nrow(claims)), function(k) test_claim(claims$x[k], claims$y[k], claims$given[[k]], columns))
  if (length(tests) == 0L) return(claims)
  claims <- cbind(claims, do.call(rbind, tests))
  claims$p.adjusted <- stats::p.adjust(claims$p.value, adjust)
  claims <- claims[order(claims$p.value), ]
  rownames(claims) <- NULL
  claims$verdict <- ifelse(is.na(claims$p.adjusted), "not tested",
                           ifelse(claims$p.adjusted <= level, "contradicted", "not contradicted"))
  structure(claims, class = c("twin_claims", "data.frame"), level = level)
}

test_claim <- function(x, y, given, columns) {
  used <- stats::na.omit(as.data.frame(lapply(columns[c(x, y, given)], as_model_column), optional = TRUE))
  names(used) <- c("x", "y", if (length(given) > 0L) paste0("g", seq_along(given)))
  if (nrow(used) < ncol(used) + 3L) {
    return(data.frame(n = nrow(used), test = "too few rows", estimate = NA_real_, p.value = NA_real_))
  }
  numeric <- vapply(used, is.numeric, NA)
  if (all(numeric)) return(test_partial_correlation(used))
  # the simpler column is the response: numbers, then yes/no, then several levels
  levels <- vapply(used[1:2], function(column) if (is.factor(column)) nlevels(droplevels(column)) else 1L, 0L)
  if (levels[1L] < levels[2L]) names(used)[1:2] <- c("y", "x")
  test_nested_models(used)
}

as_model_column <- function(x) {
  if (is.logical(x)) return(factor(x))
  if (is.factor(x)) factor(as.character(x)) else as.double(x)
}

test_partial_correlation <- function(used) {
  other <- setdiff(names(used), c("x", "y"))
  rest <- cbind(1, as.matrix(used[other]))
  residual <- function(values) stats::lm.fit(rest, values)$residuals
  r <- stats::cor(residual(used$x), residual(used$y))
  df <- nrow(used) - 2L - length(other)
  data.frame(n = nrow(used), test = "partial correlation", estimate = r,
             p.value = 2 * stats::pt(-abs(r) * sqrt(df / (1 - r^2)), df))
}

test_nested_models <- function(used) {
  other <- setdiff(names(used), c("x", "y"))
  small <- stats::reformulate(if (length(other) > 0L) other else "1", "y")
  large <- stats::reformulate(c(other, "x"), "y")
  if (!is.factor(used$y)) {
    p <- stats::anova(stats::lm(small, used), stats::lm(large, used))[["Pr(>F)"]][2L]
    return(data.frame(n = nrow(used), test = "linear models", estimate = NA_real_, p.value = p))
  }
  used$y <- droplevels(used$y)
  if (nlevels(used$y) == 2L) {
    fit <- function(formula) stats::glm(formula, stats::binomial(), used)
    p <- stats::anova(fit(small), fit(large), test = "LRT")[["Pr(>Chi)"]][2L]
    return(data.frame(n = nrow(used), test = "logistic models", estimate = NA_real_, p.value = p))
  }
  used$y <- stats::model.matrix(~ y, used)[, -1L]
  p <- stats::anova(stats::lm(small, used), stats::lm(large, used), test = "Pillai")[["Pr(>F)"]][2L]
  data.frame(n = nrow(used), test = "multivariate linear models", estimate = NA_real_, p.value = p)
}
