// The decimal mark of the house rules, for numbers that a script writes for people.
const comma = document.body.dataset.decimal === "comma";

/** A number's text with the course's decimal mark. */
export const written = (text) => (comma ? text.replace(".", ",") : text);
