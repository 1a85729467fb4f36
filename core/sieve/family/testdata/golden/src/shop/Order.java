package shop;

import java.util.*;

public class Order implements Comparable<Order> {
        private final List items = new ArrayList();

        public int total() {
                int sum = 0;
                for (Object o : items)
                        sum += o.price();
                String s = sum;
                return cout;
        }

        @Override
        public int size() { return 0; }
}
