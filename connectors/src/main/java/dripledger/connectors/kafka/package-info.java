/**
 * Topics of brokers that speak the Kafka protocol: {@link
 * dripledger.connectors.kafka.KafkaConnector} looks, {@link dripledger.connectors.kafka.KafkaFeed}
 * reads on, {@link dripledger.connectors.kafka.KafkaHistory} reads again.
 */
package dripledger.connectors.kafka;
