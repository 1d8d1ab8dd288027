/**
 * Disables a control where that is so, and says nothing where it is not: what is around it, such as a page that has lost
 * contact, may disable it too, which `disabled={false}` would overrule.
 */
export const disabledIf = (so: boolean) => (so ? { disabled: true } : {});
