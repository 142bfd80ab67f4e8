import { Check, ChevronDown } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

interface Option {
  value: string;
  label: ReactNode;
}

const content =
  "z-50 max-h-96 min-w-44 overflow-y-auto border border-rule-strong bg-raised py-1 text-ink";
const item =
  "flex cursor-default items-center gap-2 py-1 pr-4 pl-2 outline-none data-highlighted:bg-closed";

function Trigger({
  lead,
  hideLead = false,
  children,
}: {
  lead: string;
  hideLead?: boolean;
  children: ReactNode;
}) {
  return (
    <DropdownMenu.Trigger className="inline-flex h-7 items-center gap-1 rounded-[3px] px-1.5 whitespace-nowrap hover:bg-closed">
      <span className={hideLead ? "sr-only" : "text-ink-2"}>{lead}</span>
      <span>{children}</span>
      <ChevronDown size={14} aria-hidden />
    </DropdownMenu.Trigger>
  );
}

/** One of several: a word that opens a list. */
export function Choice(props: {
  lead: string;
  /** Only for those who do not see it: the place says it already. */
  hideLead?: boolean;
  value: string;
  options: readonly Option[];
  onChange: (value: string) => void;
}) {
  const { lead, hideLead, value, options, onChange } = props;
  return (
    <DropdownMenu.Root modal={false}>
      <Trigger lead={lead} hideLead={hideLead ?? false}>
        {options.find((o) => o.value === value)?.label ?? value}
      </Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" className={content}>
          <DropdownMenu.RadioGroup value={value} onValueChange={onChange}>
            {options.map((option) => (
              <DropdownMenu.RadioItem key={option.value} value={option.value} className={item}>
                <span className="w-4">
                  <DropdownMenu.ItemIndicator>
                    <Check size={14} aria-hidden />
                  </DropdownMenu.ItemIndicator>
                </span>
                {option.label}
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Any of several: the list stays open while entries are ticked. */
export function Choices(props: {
  lead: string;
  said: string;
  values: readonly string[];
  options: readonly Option[];
  onChange: (values: string[]) => void;
}) {
  const { lead, said, values, options, onChange } = props;
  return (
    <DropdownMenu.Root modal={false}>
      <Trigger lead={lead}>{said}</Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className={content}>
          {options.map((option) => (
            <DropdownMenu.CheckboxItem
              key={option.value}
              className={item}
              checked={values.includes(option.value)}
              onSelect={(event) => event.preventDefault()}
              onCheckedChange={(on) =>
                onChange(on ? [...values, option.value] : values.filter((v) => v !== option.value))
              }
            >
              <span className="w-4">
                <DropdownMenu.ItemIndicator>
                  <Check size={14} aria-hidden />
                </DropdownMenu.ItemIndicator>
              </span>
              {option.label}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
