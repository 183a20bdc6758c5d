# Which column may play which role, guessed by kind and name; the judgement is the user's.

# list(id, weight, treatment, outcome, cluster, covariates, after, kinds, unsure): names of columns (after: those that
# may follow from the treatment), their kinds, and sentences on what was left open. data: without columns that a panel
# has for itself.
guess_roles <- function(data, kinds = vapply(data, column_kind, "")) {
  two_valued <- two_valued_columns(kinds)
  arms <- names(kinds)[kinds == "levels"]
  if (length(c(two_valued, arms)) == 0L) {
    abort_input(c("No column of the data has a few values, so none can be the treatment.",
                  i = "Recode the treatment to its arms first; what units have more or less of is a dose,
                       {.code --dose COLUMN}."), call = NULL)
  }
  roles_beside(data, kinds, if (length(two_valued) > 0L) two_valued else arms)
}

# The same for a dose: of the columns of numbers the one that is named so, else the first; NULL where there is none.
# dose: where it is known.
guess_dose <- function(data, kinds = vapply(data, column_kind, ""), dose = NULL) {
  numbers <- names(kinds)[kinds == "number"]
  numbers <- setdiff(numbers, c(names_like(data, "weight|^wt$"), looks_like_id(data, kinds)))
  likely <- setdiff(numbers, c(with_past(numbers), with_past_words(numbers)))
  named <- intersect(likely, names_like(data, "dose|amount|quantity|intensity|hours|tonnes|share"))
  if (is.null(dose)) dose <- union(named, likely)
  if (length(dose) == 0L) return(NULL)
  roles <- roles_beside(data, kinds, dose, "dose")
  stats::setNames(roles, sub("^treatment$", "dose", names(roles)))
}

# candidates: columns that may be the treatment, the likeliest first.
roles_beside <- function(data, kinds, candidates, role = "treatment") {
  ids <- looks_like_id(data, kinds)
  id <- first_of(ids[kinds[ids] == "identifier"])
  weight <- likely_weight(data, kinds)
  treatment <- candidates[1L]
  rest <- setdiff(names(data), c(ids, weight, treatment))
  if (length(rest) == 0L) {
    abort_input(c("Beside {.field {treatment}} no column of the data can be the outcome."), call = NULL)
  }
  guess <- guess_outcome(rest, kinds, treatment, names(data))
  cluster <- first_of(setdiff(rest[kinds[rest] == "many levels"], guess$others))
  no_covariate <- names(kinds)[kinds %in% no_covariate_kinds]
  covariates <- setdiff(rest, c(guess$outcome, guess$others, cluster, no_covariate))
  left_out <- setdiff(rest[rest %in% no_covariate], c(cluster, guess$outcome, guess$others))
  list(
    id = id, weight = weight, treatment = treatment, outcome = guess$outcome, cluster = cluster,
    covariates = covariates, after = guess$others, kinds = kinds, candidates = candidates,
    unsure = c(
      unsure_of(role, treatment, setdiff(candidates, guess$outcome)),
      unsure_of("outcome", guess$outcome, c(guess$others, guess$choices)),
      left_out_as("likely outcomes", guess$others),
      left_out_as("identifiers, dates, years or names", c(setdiff(ids, id), left_out))
    )
  )
}

no_covariate_kinds <- c("identifier", "constant", "date", "year", "many levels")

two_valued_columns <- function(kinds) names(kinds)[kinds %in% c("true/false", "two values")]

likely_weight <- function(data, kinds) {
  first_of(intersect(names(kinds)[kinds == "number"], names_like(data, "weight|^wt$")))
}

first_of <- function(candidates) if (length(candidates) > 0L) candidates[1L]

names_like <- function(data, pattern) grep(pattern, names(data), ignore.case = TRUE, value = TRUE)

looks_like_id <- function(data, kinds) {
  named <- names_like(data, "(^|[_. ])(id|nr|no|code|key)[.]?$")
  own <- names(kinds)[kinds == "identifier"]
  union(intersect(own, named), c(own, named[kinds[named] %in% c("many levels", "number")]))
}

# What came of it: a column of which the data also hold an earlier value; one that is named so; or the last number.
# Columns that stand behind it in the file, or are named so, are likely outcomes too. list(outcome, others, choices: the
# columns it might have been).
guess_outcome <- function(rest, kinds, treatment, order) {
  usable <- rest[kinds[rest] %in% c("number", "true/false", "two values")]
  named <- grep("(^|[_. ])(outcome|result|after|post|followup|follow_up|final)([_. ]|$)", rest, ignore.case = TRUE,
                value = TRUE)
  repeated <- intersect(with_past(rest), usable)
  numbers <- usable[kinds[usable] == "number"]
  outcome <- c(repeated, intersect(named, usable), rev(numbers), rev(rest))[1L]
  place <- match(outcome, order)
  behind <- if (place > match(treatment, order) && place > length(order) / 2) order[seq_along(order) > place]
  alike <- rest[vapply(name_words(rest), function(parts) any(parts %in% name_words(outcome)[[1L]]), NA)]
  others <- intersect(rest, setdiff(union(c(repeated, named, setdiff(alike, with_past_words(rest))), behind), outcome))
  list(outcome = outcome, others = others, choices = setdiff(utils::tail(numbers, 2L), c(outcome, others)))
}

past_words <- "^(past|last|prev|previous|before|prior|earlier|baseline|lag|lagged|letzt.*)$"

# The words of names, but for short ones and those that tell a time.
name_words <- function(names) {
  lapply(strsplit(tolower(names), "[^[:alpha:]]+"), function(parts) {
    setdiff(parts[nchar(parts) > 2L],
            c("year", "season", "jahr", "after", "outcome", "result", "final", "number", "log"))
  })
}

with_past_words <- function(names) names[vapply(name_words(names), function(parts) any(grepl(past_words, parts)), NA)]

# Names of columns with an earlier value beside them: income beside past_income.
with_past <- function(names) {
  past <- with_past_words(names)
  stems <- unlist(lapply(name_words(past), function(parts) parts[!grepl(past_words, parts)]))
  setdiff(names[vapply(name_words(names), function(parts) any(parts %in% stems), NA)], past)
}

unsure_of <- function(role, chosen, candidates) {
  other <- setdiff(candidates, chosen)
  if (length(other) > 0L) sprintf("%s: %s, or %s?", role, chosen, paste(utils::head(other, 8L), collapse = ", "))
}

left_out_as <- function(what, names) {
  if (length(names) > 0L) sprintf("not among the covariates, as %s: %s", what, paste(names, collapse = ", "))
}

column_kind <- function(x) {
  if (inherits(x, "haven_labelled")) x <- labelled_to_plain(x)
  values <- unique(x[!is.na(x)])
  if (length(values) < 2L) return("constant")
  if (length(values) == 2L) return(if (all(values %in% c(0, 1))) "true/false" else "two values")
  distinct <- length(values) == length(x)
  if (is_text(x)) return(text_kind(values, distinct))
  if (is_whole(x) && all(values >= 1900 & values <= 2100)) return("year")
  if (distinct && is_whole(x)) return("identifier")
  if (inherits(x, c("Date", "POSIXt"))) "date" else "number"
}

# The values of a column as text, in order; labels where it has them.
value_texts <- function(x) {
  if (inherits(x, "haven_labelled")) x <- labelled_to_plain(x)
  as.character(sort(unique(x[!is.na(x)])))
}

is_text <- function(x) is.character(x) || is.factor(x)

text_kind <- function(values, distinct) {
  hidden <- hidden_kind(as.character(values))
  if (!is.null(hidden)) return(c(numbers = "number with other entries", dates = "date")[[hidden]])
  if (distinct) return("identifier")
  if (length(values) > 12L) "many levels" else "levels"
}

is_whole <- function(x) is.numeric(x) && all(x == round(x), na.rm = TRUE)
