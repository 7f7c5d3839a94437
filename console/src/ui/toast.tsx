import { Toast } from "radix-ui";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";
import { Refusal } from "../lib/api";
import { Button } from "./button";

interface Told {
  id: number;
  text: string;
  more?: string;
  loss: boolean;
  action?: { word: string; run: () => void };
}

interface Tell {
  say: (text: string, action?: Told["action"]) => void;
  refuse: (error: unknown) => void;
}

const Context = createContext<Tell>({ say: () => {}, refuse: () => {} });

/** Short messages that go by themselves. */
export function useToast(): Tell {
  return useContext(Context);
}

let next = 1;

export function ToastProvider({ children }: { children: ReactNode }) {
  const [told, setTold] = useState<Told[]>([]);
  const say = useCallback((text: string, action?: Told["action"]) => {
    setTold((all) => [...all.slice(-2), { id: next++, text, loss: false, action }]);
  }, []);
  const refuse = useCallback((error: unknown) => {
    const more = error instanceof Refusal ? error.remedy : "";
    const text = error instanceof Error ? error.message : String(error);
    setTold((all) => [...all.slice(-2), { id: next++, text, more, loss: true }]);
  }, []);
  return (
    <Context value={{ say, refuse }}>
      <Toast.Provider swipeDirection="right" duration={10_000}>
        {children}
        {told.map((t) => (
          <Toast.Root
            key={t.id}
            onOpenChange={(open) => !open && setTold((all) => all.filter((x) => x.id !== t.id))}
            className={`flex items-center gap-4 rounded-lg border px-4 py-3 shadow-lg ${t.loss ? "border-brick bg-brick-wash" : "border-line bg-sheet"}`}
          >
            <div className="min-w-0 flex-1">
              <Toast.Title className="break-words">{t.text}</Toast.Title>
              {t.more && <Toast.Description className="text-sm text-muted">{t.more}</Toast.Description>}
            </div>
            {t.action && (
              <Toast.Action asChild altText={t.action.word}>
                <Button onClick={t.action.run}>{t.action.word}</Button>
              </Toast.Action>
            )}
          </Toast.Root>
        ))}
        <Toast.Viewport className="fixed bottom-4 left-1/2 z-50 flex w-[calc(100vw-2rem)] max-w-lg -translate-x-1/2 flex-col gap-2 max-sm:bottom-20" />
      </Toast.Provider>
    </Context>
  );
}
