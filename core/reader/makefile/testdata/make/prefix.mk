.RECIPEPREFIX = >
one:
> @echo hi
two: one
> @echo ho
