# The registers of estimators along a dose and of histories. options: arguments that belong to this one; papers: keys.

# models: is a model of the outcome averaged?
response_estimators <- list(
  weighted = list(models = FALSE, options = character(), papers = character()),
  augmented = list(models = TRUE, options = c("model", "products", "family"), papers = "kennedy2017")
)

# weights: does it need them, or scores alone? measure: function(x, data, asked, followed, shares, call), see
# measure_histories(); words: function(form) of how it is done; errors: what they account for besides scores.
course_estimators <- list(
  weighted = list(
    weights = TRUE, options = "form", papers = "robins2000", errors = "",
    measure = function(x, data, asked, followed, shares, call) weighted_histories(x, data, asked, followed, call),
    words = function(form) sprintf("a regression on %s, with", course_forms[[form]])
  ),
  augmented = list(
    weights = FALSE, options = character(), papers = "bang2005", errors = " and regressions",
    measure = function(x, data, asked, followed, shares, call) augmented_histories(x, data, asked, shares, call),
    words = function(form) "sequential augmented regression on"
  )
)

# What of a history counts in a weighted regression.
course_forms <- c(cumulative = "the number of periods treated", periods = "each period's treatment",
                  exact = "those who followed it")

# Options of other estimators than the one chosen.
strays_of <- function(estimator, register, given) {
  others <- unlist(lapply(register[names(register) != estimator], `[[`, "options"))
  intersect(given, setdiff(others, register[[estimator]]$options))
}
