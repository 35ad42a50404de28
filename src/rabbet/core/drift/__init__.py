"""Lock × inventory → findings, and the plan that mends them."""
